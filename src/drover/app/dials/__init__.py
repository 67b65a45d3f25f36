"""Dials: the settings of the stage in focus, each on its evidence."""
