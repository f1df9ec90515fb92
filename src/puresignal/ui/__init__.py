"""Qt Widgets: views that show a session and send edits. Nothing is computed here."""
