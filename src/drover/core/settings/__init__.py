"""The settings of every stage, a file a stage; :mod:`drover.core.recipe` puts them together."""
