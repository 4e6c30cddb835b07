"""Rows and scatter: many small pieces that sit on clay."""
