"""Points in pictures: found, described, matched, followed, and the motion that most of them share."""
