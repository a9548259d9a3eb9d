//! Tests that start the real binary and use it as its users do. There is nothing to import here: see `tests/acceptance`.
