"""Tests of the live page in a real browser: ``make test-browser``, which needs Debian's Chromium."""
