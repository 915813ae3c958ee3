import core  # noqa: F401 - before numpy is loaded: it says how many threads a product of matrices may take
