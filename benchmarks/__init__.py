"""Repeatable measurements against hand-written peers; `python -m benchmarks` writes docs/benchmarks.md."""
