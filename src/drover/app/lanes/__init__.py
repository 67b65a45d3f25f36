"""The lanes: time along, one lane an identity."""
