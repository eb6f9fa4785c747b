"""What is open, without a window: its audio, what is measured of it and in which order, and long work as tasks."""
