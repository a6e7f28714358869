"""What is in a clone: the tree walk, README steps, commands, and the values of a survey."""
