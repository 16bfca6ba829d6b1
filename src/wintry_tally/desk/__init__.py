"""The Qt 6 Widgets application."""
