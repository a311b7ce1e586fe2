"""The window. The only package that imports Qt and GL; it shows what the core knows and asks it to act."""
