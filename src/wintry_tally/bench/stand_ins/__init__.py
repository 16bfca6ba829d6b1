"""Stand-ins for instruments: one simulated battery behind a load, a supply, meters and a thermometer."""
