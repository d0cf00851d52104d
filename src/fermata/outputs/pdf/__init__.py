"""PDF: a document to print and file, drawn page by page."""

from fermata.outputs.pdf.document import write

__all__ = ["write"]
