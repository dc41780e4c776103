"""Whether what comes out is what was meant: promises, findings, remedies, and what an edit would change of it."""
