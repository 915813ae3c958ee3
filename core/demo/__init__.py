"""The made-up demo performances, rendered deterministically, with the truth of each."""
