"""Results in sentences for people, as text without a terminal."""
