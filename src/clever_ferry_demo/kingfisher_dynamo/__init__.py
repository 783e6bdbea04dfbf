"""The stand-in for Kingfisher Dynamo: states that grow rich, from origins in an earlier game."""
