"""The ledger: the database of exports, runs, deliveries, claims and links."""
