"""Where the learned part of the tracker comes from: made-up pieces, their sound, and the lessons (see README.md)."""

import core  # noqa: F401 - before numpy is loaded: it says how many threads a product of matrices may take
