"""Shares, walks, cards and reports."""

from yardgate.api.shares.routes import long, router

ROUTERS = (
    router,
    long,
)
