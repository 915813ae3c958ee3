"""Hearing a recording: reading it, drawing it, finding its attacks."""
