"""Proof of a run: what it rested on, its fingerprint, its repetition."""
