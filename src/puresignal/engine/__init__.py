"""The live processes: the router between ports, and those who talk to it."""
