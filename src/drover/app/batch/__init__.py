"""Many clips with the recipe of the window: chosen, tried, worked through, and opened to be checked."""
