"""Sound laid on other times than its own, pitch kept."""
