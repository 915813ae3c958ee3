"""Built-in instruments: notes to samples."""
