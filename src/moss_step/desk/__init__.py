"""The window: Qt widgets over the study."""

# Once Qt is loaded it reads the source of every module that comes after it, so the steps and their libraries come first.
from moss_step.steps.catalogue import catalogue

catalogue()
