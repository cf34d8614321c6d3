"""From a reading and a spec to a plan: how one source lands at one destination."""

from .plan import plan, plans

__all__ = ["plan", "plans"]
