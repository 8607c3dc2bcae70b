"""Packets as bytes and frozen types, and conversations made of them. No sockets, no clock."""
