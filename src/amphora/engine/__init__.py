"""The engine: exports, dockets and their carrying out, putting back, verifying."""
