"""Working through the moments: what may be wrong, both futures, and a key for each answer."""
