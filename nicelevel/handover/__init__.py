"""Handing over: what goes into a package, the papers that go with it, and sending it to who asked for it."""
