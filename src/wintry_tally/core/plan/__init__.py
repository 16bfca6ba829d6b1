"""Forecasts: the engine run on the battery model with large steps."""

from wintry_tally.core.plan.forecast import Forecast, LiveForecast, forecast, live_forecast
from wintry_tally.core.plan.onward import Onward, onward

__all__ = ["Forecast", "LiveForecast", "Onward", "forecast", "live_forecast", "onward"]
