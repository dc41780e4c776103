"""Yard Gate: plan who may read and write what on a small office's file server, and see why it comes out so."""

__version__ = "0.1.0"
