"""What is wrong with a build's light: where, how much, and why."""
