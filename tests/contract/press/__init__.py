"""A small REST platform of the tests' own, as awkward as real ones are, and its bridge sheet."""
