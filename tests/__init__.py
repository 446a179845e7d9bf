"""The tests; random examples take what time a machine needs for them."""

from hypothesis import HealthCheck, settings

settings.register_profile("kinglet", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("kinglet")
