"""Campaigns, programmes and plans."""
