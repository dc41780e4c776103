"""The board: who gets what, and why."""

from yardgate.api.board.routes import router

ROUTERS = (router,)
