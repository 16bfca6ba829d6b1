"""The room that a battery is taken to be in where nobody says a temperature."""

ROOM_C = 23.0
"""°C; within the 20 to 25 °C of most data sheets. Common practice, no published source."""
