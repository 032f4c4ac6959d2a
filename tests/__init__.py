import os

from hypothesis import Phase, settings

# the same tree always passes or fails; `make fuzz` and FACTURUM_HYPOTHESIS=explore look for what is not known yet
settings.register_profile("repeat", derandomize=True, database=None)
settings.register_profile("explore", derandomize=False)
# while mutants are tried, the first counterexample is enough, and the same mutant always meets the same examples
settings.register_profile("mutate", derandomize=True, database=None, phases=[Phase.generate])
settings.load_profile(os.environ.get("FACTURUM_HYPOTHESIS", "repeat"))
