"""The web application's frame: settings, base templates, components, charts."""
