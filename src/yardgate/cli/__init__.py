"""The command line: `main` has the small commands, one module a larger one. Everything it knows comes from core, formats, drivers, store and api."""
