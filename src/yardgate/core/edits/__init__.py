"""From one plan to the next: edits, their inverses, differences and words; larger changes made of them."""
