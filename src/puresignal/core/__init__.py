"""Values and how they are computed: no Qt, no file, no device, no clock."""
