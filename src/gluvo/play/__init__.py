"""Playing: the transport, the live graph, and the devices it plays to."""
