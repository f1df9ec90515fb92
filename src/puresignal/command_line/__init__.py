"""The commands of `pure-signal`: their options, and what they say."""
