"""Fundamentum: what a PHP application needs, what a server has, and the plan between the two."""

__version__ = "0.1.0"
