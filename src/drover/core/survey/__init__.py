"""What a clip says of itself before anything is detected: the empty scene, its noise, sizes, shadows, speeds."""
