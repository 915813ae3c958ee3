"""Errors in what a user asked for, as opposed to bugs."""


class InputError(ValueError):
    """A request that cannot be carried out. The message is a sentence for the engineer.

    Only errors of this kind are shown to the user. Any other error is a bug and is logged with its traceback.
    """
