"""Two real instances of a reporting system, reached by the bridge sheet that ships."""
