"""Chords: found from tones, written by the engineer, placed on beats, played as a pad."""
