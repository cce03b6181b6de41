"""A system of which nothing is known: no package database that is read here."""

from fundamentum.platforms.base import Platform

PLATFORM = Platform()
