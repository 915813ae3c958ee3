"""Measurements: never asserted, always side by side with a reference in the same run."""
