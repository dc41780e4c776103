"""What every test may use."""

from dataclasses import replace
from datetime import date

import pytest
from hypothesis import HealthCheck, settings

from tests.tries import TRIES
from yardgate import demo
from yardgate.core.model.plan import Plan

ON = date(2027, 1, 1)

for profile, examples in (("quick", 5), ("usual", 100), ("thorough", 1000)):
    settings.register_profile(
        profile,
        deadline=None,
        suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large],
        print_blob=True,
        max_examples=examples,
    )
settings.load_profile(TRIES)


@pytest.fixture
def lantern() -> Plan:
    """The demo plan without its storage lists: grants alone decide."""
    plan = demo.plan()
    bare = {"acl": None, "owner": None, "group": None, "inheritance_stops": False, "enforced_by": None}
    return replace(plan, places={place.id: replace(place, **bare) for place in plan.places.values()})


@pytest.fixture
def quay() -> Plan:
    """The demo plan."""
    return demo.plan()
