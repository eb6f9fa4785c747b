"""What goes on behind an open session, without a window: long work and its order."""
