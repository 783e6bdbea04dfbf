"""The stand-in for Moth & Lantern: an old release, its Anniversary edition, and a handheld's."""
