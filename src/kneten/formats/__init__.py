"""Open files in and out: OBJ, PLY, STL, glTF. `exchange` is the door; one module for each format."""
