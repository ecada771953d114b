"""What is sent a wire; knows neither storage nor Flask."""
