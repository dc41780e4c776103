"""Needs, and groups that give just what is needed."""

from yardgate.api.needs.routes import long

ROUTERS = (long,)
