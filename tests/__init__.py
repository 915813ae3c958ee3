from hypothesis import settings

import core  # noqa: F401 - before numpy is loaded: it says how many threads a product of matrices may take

# half of the usual number, as a run of all tests has eight minutes
settings.register_profile("suite", max_examples=50)
settings.load_profile("suite")
