// Only how far things are, for maps of shadow.
uniform mat4 clip_from_part;
in vec3 position;
void main() { gl_Position = clip_from_part * vec4(position, 1.0); }
