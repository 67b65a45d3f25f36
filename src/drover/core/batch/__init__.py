"""Many clips with one recipe: planned, worked through by processes of their own, resumed, and summed up."""
