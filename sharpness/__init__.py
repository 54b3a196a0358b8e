"""How much the tests notice: small changes at random, and changes chosen because they would hurt somebody."""
