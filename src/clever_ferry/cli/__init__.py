"""The command line: the only place that knows click and rich."""
