"""The work of each `pure-signal` command."""
