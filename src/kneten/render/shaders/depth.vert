// Only how far things are, for maps of shadow.
uniform mat4 clip_from_part;
in vec3 position;
#if CLEAR
in float opacity;
out float hides;
#endif
void main() {
    gl_Position = clip_from_part * vec4(position, 1.0);
#if CLEAR
    hides = opacity;
#endif
}
