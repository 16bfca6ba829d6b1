"""Words that makers print, as data: one list a kind of claim and language."""
