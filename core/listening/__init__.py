"""Analysing recordings: spectra, attacks, pitches, tones, and how well each track serves as guide."""
