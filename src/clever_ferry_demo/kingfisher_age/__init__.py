"""The stand-in for Kingfisher Age: campaigns, and starts that come from an earlier game."""
