//! Starts real servers and temporary worlds for the tests.
