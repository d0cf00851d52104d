"""Bytes to records to events: mappings, readers, time parsing, rejects."""
