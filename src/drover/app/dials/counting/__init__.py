"""Dials of Count: lines, zones, the ground's measure, alarms, counts over time, and what is wrong with them."""
