"""Serves a WSGI application (PEP 3333) on threads of the standard library."""
