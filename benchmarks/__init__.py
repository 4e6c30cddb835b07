"""The figures Kneten holds, each measured as a ratio within one run."""
