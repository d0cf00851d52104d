"""Questions about people: presence, contacts, trails, headcount and evacuation, changes to entries."""
