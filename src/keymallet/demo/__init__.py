"""The Gentian Valley Railway: a made-up organisation with made-up people, for demonstration and tests."""
