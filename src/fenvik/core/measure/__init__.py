"""Measuring: how sure a reading is, when it may be believed, what corrects it."""
