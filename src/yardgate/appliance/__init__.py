"""Where plans go: a Linux file server."""
