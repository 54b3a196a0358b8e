"""Files: packages, the workspace, and the files that people edit."""
