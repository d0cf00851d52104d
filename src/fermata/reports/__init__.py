"""Definitions to answers: definition, compile, execute."""
