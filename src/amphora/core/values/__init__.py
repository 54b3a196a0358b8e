"""Values: what everything else is said in."""
