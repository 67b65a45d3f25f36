"""Track: detections linked into identities that last."""
