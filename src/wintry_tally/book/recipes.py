"""Recipes to and from the plain data kept with a run."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import Any

from wintry_tally.core.errors import BookError, InputError
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.protocol.sound import check_filled


def recipe_data(recipe: Recipe) -> dict[str, Any]:
    """Plain data; limits that are not set (infinite) are left out, for JSON has no word for them."""
    data = asdict(recipe)
    data["stops"] = {name: value for name, value in data["stops"].items() if math.isfinite(value)}
    return data


def recipe_from(data: dict[str, Any]) -> Recipe:
    """The recipe that `recipe_data` wrote.

    Raises:
        BookError: the data is no recipe.
    """
    from pydantic import TypeAdapter, ValidationError

    try:
        recipe = TypeAdapter(Recipe).validate_python(data)
        for number, step in enumerate(recipe.steps, 1):
            check_filled(step, f"step {number}")
        return recipe
    except InputError as error:
        raise BookError(f"the run's recipe cannot be run ({error})") from None
    except ValidationError as error:
        raise BookError(f"the run's recipe cannot be read ({error.error_count()} problems)") from None
