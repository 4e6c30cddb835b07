// From a part's own space to the picture; normals go on in the eye's space.
uniform mat4 clip_from_part;
uniform mat3 eye_from_part;
uniform vec3 tint;
in vec3 position;
in vec3 normal;
in vec4 colour;
out vec3 eye_normal;
out vec3 albedo;
out float masked;
void main() {
    gl_Position = clip_from_part * vec4(position, 1.0);
    eye_normal = eye_from_part * normal;
    albedo = colour.rgb * tint;
    masked = 1.0 - colour.a;
}
