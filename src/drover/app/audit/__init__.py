"""Going through all crossings one by one: cards with pictures, verdicts by key, what was missed."""
