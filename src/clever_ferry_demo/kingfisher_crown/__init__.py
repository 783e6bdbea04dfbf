"""The stand-in for Kingfisher Crown: realms and reigns, each save one long text of blocks."""
