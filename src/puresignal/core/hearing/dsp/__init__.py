"""Signal processing that several transcribers share."""
