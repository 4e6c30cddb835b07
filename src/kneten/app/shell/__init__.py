"""What stands around the clay: window, stages, rack, strip, finder, panels. Knows benches by their list only."""
