"""Measurements: never asserted, always side by side with a reference in the same run."""

import core  # noqa: F401 - before numpy is loaded: it says how many threads a product of matrices may take
