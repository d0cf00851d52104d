"""People, devices, places and projects: who a name means, and what was true of them when."""
