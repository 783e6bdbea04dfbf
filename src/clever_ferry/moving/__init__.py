"""Files as they are touched: read in confinement, staged, replaced, named as each OS allows."""
