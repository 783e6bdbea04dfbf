"""One module per subcommand; each has a `command`."""
