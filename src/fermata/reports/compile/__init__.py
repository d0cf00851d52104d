"""From a definition to a request in absolute terms, for one who may ask it."""
