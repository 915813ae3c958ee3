"""What goes wrong with maps and edits, in words for the engineer."""

from core.errors import InputError


class EditError(InputError):
    """An edit that cannot be, in words for the engineer."""
