"""The fast resolver: every user in every place at once, as bit sets."""
