"""Everything that can be known in seconds, before an hour's build."""
