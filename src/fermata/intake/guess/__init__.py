"""Looking at a file nobody has described yet: what it is, what its columns seem to mean, and what stays unsure."""
