"""Why a spot of a build looks as it does."""
