"""The site: settings, addresses, the entry point of the server, health, and the jobs that keep the
worker in order.
"""
