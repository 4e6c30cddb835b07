"""The clay: meshes, brushes and remeshing. Arrays in, arrays out; no windows, no graphics, no files."""
