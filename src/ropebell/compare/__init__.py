"""Two builds against each other: what changed, in settings, contents, light, faults and times, and because of what."""
