"""The computation: pure functions on frozen data. No files, no network, no database, no web.

Read in this order: `rights` (levels), `plan` (what is planned), `membership` (who counts as what), `clash` (when grants
disagree), `reason` (one cell, explained), `resolve` (all cells, at once), `edit` (from one plan to the next).
"""
