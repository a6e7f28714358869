"""What else is done with an onboarded clone: one folder for each command."""
