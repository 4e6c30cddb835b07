"""A net: few faces that are put where they belong by hand."""
