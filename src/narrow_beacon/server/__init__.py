"""The web server: one module a stage, events, image tiles, security."""
