"""What a plan comes to on an appliance, what that has, and the steps from one to the other."""
