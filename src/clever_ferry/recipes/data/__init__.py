"""The recipes that come with the tool."""
