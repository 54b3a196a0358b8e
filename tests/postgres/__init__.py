"""A real PostgreSQL server for the tests of a team's ledger."""
