"""The live processes: router, recorder, player, sound and simulated devices, and their clients."""
