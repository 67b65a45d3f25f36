"""Scenes drawn by us, with exact truth: the Fold Hill farm."""
