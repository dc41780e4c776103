"""Storage: the list of every place."""

from yardgate.api.storage.routes import router

ROUTERS = (router,)
