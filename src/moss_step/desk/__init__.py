"""The window: Qt widgets over the study."""
