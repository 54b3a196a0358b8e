"""Merge: three-way comparison of forms."""
