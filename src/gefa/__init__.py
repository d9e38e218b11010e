"""Gefa turns designs and pictures into the files a website serves."""

__version__ = "0.1.0"
