// A part whose faces have places of their own in a picture.
uniform mat4 clip_from_part;
uniform mat3 eye_from_part;
in vec3 position;
in vec3 normal;
in vec4 colour;
out vec3 own_normal;
out vec4 own_colour;
void main() {
    gl_Position = clip_from_part * vec4(position, 1.0);
    own_normal = eye_from_part * normal;
    own_colour = colour;
}
