"""The core: no window, no printing; importable and testable on its own."""
