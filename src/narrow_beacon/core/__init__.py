"""The computation: arrays and small dataclasses in and out; no web, no database."""
