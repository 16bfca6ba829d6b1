"""Forecasts: the engine run on the battery model with large steps."""

from wintry_tally.core.plan.forecast import Forecast, LiveForecast, forecast, live_forecast

__all__ = ["Forecast", "LiveForecast", "forecast", "live_forecast"]
