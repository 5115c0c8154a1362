"""What the data is: units, frames, surfaces, class maps, shapes, findings and errors."""
