"""HTML: one file that sorts, filters and leads from a figure to its events, without a request to anywhere."""

from fermata.outputs.html.page import fragment, kept, write

__all__ = ["fragment", "kept", "write"]
