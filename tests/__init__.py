import os

from hypothesis import HealthCheck, Phase, settings

# no test depends on how fast the machine is
ANY_SPEED = {"deadline": None, "suppress_health_check": [HealthCheck.too_slow]}
# the same tree always passes or fails; `make fuzz` and FACTURUM_HYPOTHESIS=explore look for what is not known yet
settings.register_profile("repeat", derandomize=True, database=None, **ANY_SPEED)
settings.register_profile("explore", derandomize=False, **ANY_SPEED)
# while mutants are tried, the first counterexample is enough, and the same mutant always meets the same examples
settings.register_profile("mutate", derandomize=True, database=None, phases=[Phase.generate], **ANY_SPEED)
settings.load_profile(os.environ.get("FACTURUM_HYPOTHESIS", "repeat"))
