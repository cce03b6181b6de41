"""Findings and plans as text, JSON and scripts."""
