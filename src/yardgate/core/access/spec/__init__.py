"""The readable resolver: one user in one place, gate by gate, each as its standard says it."""
