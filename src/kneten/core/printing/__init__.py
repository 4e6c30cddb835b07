"""What a printer needs of clay: walls, hollows, cuts with pegs, plinths, where it stands, what it weighs. All in millimetres, y up."""
