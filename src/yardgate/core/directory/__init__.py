"""What the accounts of a joined directory make of a plan, and the numbers they get. The records themselves are in `model.directory`."""
