"""The command line: what is asked in words, and answered in files and lines."""
