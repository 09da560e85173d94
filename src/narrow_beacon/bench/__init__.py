"""Benchmarks: accuracy against simulated truth, and speed."""
