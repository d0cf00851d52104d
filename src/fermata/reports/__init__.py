"""Definitions to results: the report model, its resolution to a plan, and the run."""
