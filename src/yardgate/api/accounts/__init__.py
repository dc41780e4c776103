"""Signing in, accounts, sessions, and what was done."""

from yardgate.api.accounts.routes import router

ROUTERS = (router,)
