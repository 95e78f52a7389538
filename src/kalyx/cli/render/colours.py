"""Colours that a colour-blind reader tells apart, on a dark or a light terminal."""

BLUE = "#2878c8"
ORANGE = "#c46200"
QUIET = "#7d7d7d"
