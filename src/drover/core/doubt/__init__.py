"""Where a result may be wrong, found without any truth: moments with the chance that identities are wrong there."""
