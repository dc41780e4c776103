"""Joined directories."""

from yardgate.api.directories.routes import router

ROUTERS = (router,)
