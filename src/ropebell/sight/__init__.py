"""Where players can be, and what they can see from there."""
