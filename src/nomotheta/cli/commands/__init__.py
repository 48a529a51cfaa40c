"""The commands, a module for each part of the path. Each only reads arguments, calls the core, and shows."""
