"""Narrowing a failure down to its culprit, proving it, and trying the least fix."""
