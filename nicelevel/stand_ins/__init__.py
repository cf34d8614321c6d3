"""Small stand-ins for what is outside: they ship with Nice Level, say that they are stand-ins, and share no code path
with it but the measuring core and, where that is the point of them, an open protocol."""
