"""Form: kind sheets, and definitions in portable form."""
