"""Recipes: games and boxes as data; loaded, checked, and compiled to what reads and writes them."""

from clever_ferry.recipes.edition import Edition, Game
from clever_ferry.recipes.loading import Recipes, RecipeSource, read_recipe
from clever_ferry.recipes.reading import Listing, read_edition

__all__ = ["Edition", "Game", "Listing", "RecipeSource", "Recipes", "read_edition", "read_recipe"]
