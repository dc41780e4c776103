"""Text in, text out: one file a format. What comes in becomes a list of edits, shown before it is kept."""
