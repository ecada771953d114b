"""What goes over a wire; knows neither storage nor Flask."""
