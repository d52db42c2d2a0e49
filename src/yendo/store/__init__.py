"""The media store: vendor files kept once, by the hash of their content."""

from yendo.store.store import Item, Store, StoreVerdict

__all__ = ["Item", "Store", "StoreVerdict"]
