"""One body, one box: what a recorded clip shows over time puts single pictures right."""
