import os

from hypothesis import Phase, settings

# while mutants are tried, the first counterexample is enough, and the same mutant always meets the same examples
settings.register_profile("mutate", derandomize=True, database=None, phases=[Phase.generate])
if "FACTURUM_HYPOTHESIS" in os.environ:
    settings.load_profile(os.environ["FACTURUM_HYPOTHESIS"])
