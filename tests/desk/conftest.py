"""The window with the estate in it."""

import pytest


@pytest.fixture
def demo(window, settle):
    window.files.open_demo()
    settle(window)
    return window
