"""What goes on while nobody waits for the answer: rollouts, lists pushed down, directories read."""
