"""Footage: clips opened, frames found exactly by number, frames written."""
