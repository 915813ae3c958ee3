"""What is wrong with what was asked for, apart from what is wrong with us."""


class InputError(ValueError):
    """Something that cannot be done as asked; its text is a sentence for the engineer.

    Only errors of this kind are told to who asked. Any other one is a bug: it is logged with its traceback.
    """
