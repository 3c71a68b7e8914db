"""The client of the device link, version 1 (docs/device-link.md): meters, pattern sources, displays, directories."""
