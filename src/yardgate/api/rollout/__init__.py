"""Rollouts: the steps, the runs, and what lies in folders on the appliance."""

from yardgate.api.rollout import contents, routes, runs

ROUTERS = (routes.router, routes.large, runs.router, contents.router)
