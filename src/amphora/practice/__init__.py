"""The simulated platform: state in SQLite, rules of its own, made-up data."""
