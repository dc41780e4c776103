"""A Linux file server: reading it, the commands of a step, doing and undoing them, over ssh or where this runs."""
