"""What the Help menu shows: keys, versions, the log, and the way to a first count."""
