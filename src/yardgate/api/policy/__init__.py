"""Promises and findings."""

from yardgate.api.policy.routes import long, router

ROUTERS = (
    router,
    long,
)
