"""The window: asks the core, never computes."""
