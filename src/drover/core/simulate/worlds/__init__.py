"""Other places than the hill: water, a yard, a lane, a doorway, at night and in the rain."""
