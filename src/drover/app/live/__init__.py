"""A camera counted on as it comes: the work, the picture with the counts, and the window round them."""
