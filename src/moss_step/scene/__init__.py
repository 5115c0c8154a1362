"""What is drawn of a study, worked out without an interface: pictures of results, layers in order, legends,
readings.
"""
