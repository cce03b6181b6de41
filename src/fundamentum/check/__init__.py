"""Needs held against a survey: findings."""
