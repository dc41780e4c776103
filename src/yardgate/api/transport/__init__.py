"""How requests come in and answers go out, whatever they are about: connections, who may send how much, JSON, turns, errors."""
