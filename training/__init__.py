"""Where the learned part of the tracker comes from: made-up pieces, their sound, and the lessons (see README.md)."""
