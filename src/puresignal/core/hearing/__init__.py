"""The ear: audio to notes. Analysis is computed once and kept; decisions are made from it as often as needed."""
