"""Rollouts: the steps, the runs, what lies in folders on the appliance, and what goes on there now."""

from yardgate.api.rollout import check, contents, live, routes, runs

ROUTERS = (routes.router, routes.large, runs.router, contents.router, live.router, check.router)
