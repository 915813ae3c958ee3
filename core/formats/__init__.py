"""File formats, one a file, reader beside writer."""
