"""Settings of an instance for tests: everything in one file, on loopback."""

import os
from importlib import import_module

SECRET_KEY = "made-up-key-for-tests-on-loopback-only-0123456789"
SQLALCHEMY_DATABASE_URI = f"sqlite:///{os.environ['AMPHORA_TEST_METADATA']}?check_same_thread=false"
# A connection for each request: with one that threads share, what another one is writing is seen half, or not at all.
SQLALCHEMY_ENGINE_OPTIONS = {"poolclass": import_module("sqlalchemy.pool").NullPool}
TALISMAN_ENABLED = False
PREVENT_UNSAFE_DB_CONNECTIONS = False
WTF_CSRF_ENABLED = True
RATELIMIT_ENABLED = False
