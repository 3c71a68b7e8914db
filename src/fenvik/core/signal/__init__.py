"""The signal: code values, patches, lists, patterns."""
