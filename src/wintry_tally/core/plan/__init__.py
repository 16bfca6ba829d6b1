"""Forecasts (the engine run on the battery model with large steps), programmes of tests, and their plan over the days."""

from wintry_tally.core.plan.forecast import Forecast, LiveForecast, forecast, live_forecast
from wintry_tally.core.plan.onward import Onward, onward
from wintry_tally.core.plan.so_far import Band, Outlook, SoFar, outlook
from wintry_tally.core.plan.under_way import under_way

__all__ = [
    "Band", "Forecast", "LiveForecast", "Onward", "Outlook", "SoFar", "forecast", "live_forecast", "onward", "outlook",
    "under_way",
]  # fmt: skip
