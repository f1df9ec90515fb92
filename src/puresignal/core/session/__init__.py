"""A session as frozen values, the edits on it, and its history."""
