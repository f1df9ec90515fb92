"""What each command of `pure-signal` does."""
