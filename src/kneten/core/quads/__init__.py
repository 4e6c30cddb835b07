"""Clean quads over dense clay: a working mesh, a field of crosses and places on it, a cage read off them."""
