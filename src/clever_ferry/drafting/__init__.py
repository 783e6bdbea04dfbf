"""Recipes drafted from folders of saves: what a study has found, written down as a recipe."""
