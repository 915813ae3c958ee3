"""What goes wrong with maps and edits, in words for the engineer."""


class EditError(ValueError):
    """An edit that cannot be, in words for the engineer."""
