"""The relay line: a plan laid out left to right as plain data, without Qt."""
