"""A workspace on disk: its files, its logs at one moment, imports, upkeep, the last run."""
