"""The web side: everything under /api/v1, and the built user interface."""
