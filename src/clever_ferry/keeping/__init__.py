"""What the tool keeps of its own: the locker (backups), the journal, the logbook (crossings)."""
