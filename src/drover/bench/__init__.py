"""Measurements: ``python -m drover.bench`` prints them and writes JSON."""
