import core  # noqa: F401 - before numpy is loaded: it says how many threads a product of matrices may take
from hypothesis import settings

# half of the usual: a property of maps that does not hold is found within some ten examples
settings.register_profile("suite", max_examples=50)
settings.load_profile("suite")
