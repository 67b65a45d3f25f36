"""The camera's motion, and pictures in steadied coordinates."""
