// The mesh's own edges, a hair nearer to the eye than its faces.
uniform mat4 clip_from_part;
in vec3 position;
void main() {
    gl_Position = clip_from_part * vec4(position, 1.0);
    gl_Position.z -= 0.00025 * gl_Position.w;
}
