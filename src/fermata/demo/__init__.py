"""Quillmere Hall: an invented organisation's logs, made from a seed, with the faults real logs have."""

from fermata.demo.make import END, make

__all__ = ["END", "make"]
