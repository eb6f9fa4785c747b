"""From the session to sound: chains, whole-song renders and their cache."""
