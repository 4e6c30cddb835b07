"""The picture and the pointer on it."""
