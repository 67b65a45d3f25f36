"""One thing followed by its look: marked once, found again picture after picture by its points."""
