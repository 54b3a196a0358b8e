"""The environment protocol over HTTP: whoever serves it is an environment (docs/environment-protocol.yaml)."""
