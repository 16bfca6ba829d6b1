"""The report: what was found of a sample, and the self-contained web page made of it."""
