"""Links: shores on servers, reached by their file services."""
