"""Plans: their outline, edits, history and versions."""

from yardgate.api.plans.routes import large, router

ROUTERS = (
    router,
    large,
)
