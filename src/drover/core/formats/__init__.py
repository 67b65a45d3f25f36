"""Readers and writers of the files Drover exchanges with the world."""
