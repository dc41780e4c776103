"""What is outside: appliances that plans go to (`target` is what is asked of one) and directories that accounts come from."""
