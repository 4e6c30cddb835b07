// A part as a breath of itself.
uniform mat4 clip_from_part;
uniform mat3 eye_from_part;
in vec3 position;
in vec3 normal;
out vec3 eye_normal;
void main() {
    gl_Position = clip_from_part * vec4(position, 1.0);
    eye_normal = eye_from_part * normal;
}
