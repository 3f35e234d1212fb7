"""The Night Conservatory: every demo picture, made by our own code, the same pixels each time."""
