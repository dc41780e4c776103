"""Import and export."""

from yardgate.api.transfer.routes import quick, router

ROUTERS = (
    router,
    quick,
)
