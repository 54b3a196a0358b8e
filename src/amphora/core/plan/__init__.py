"""Plan: what will be done to a target, and what has to be true before."""
