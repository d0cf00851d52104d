"""The library as people call it: workspaces, questions, results."""
