"""Where to begin, and what comes next; and one act on many things."""

from yardgate.api.begin.routes import ROUTERS

__all__ = ["ROUTERS"]
