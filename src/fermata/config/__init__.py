"""fermata.toml into declarations: logs, derived and computed logs, hours, patterns, viewers."""
