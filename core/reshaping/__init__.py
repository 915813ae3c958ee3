"""Sound moved to other times, pitch kept."""
