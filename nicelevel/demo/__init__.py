"""The demo job, made by code from a seed: a museum in a lighthouse and its winter season. Nobody in it is real."""
