"""Starts the program: command line, windowless commands, the desktop entry."""
