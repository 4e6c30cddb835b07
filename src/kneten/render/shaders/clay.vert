// From a part's own space to the picture; normals go on in the eye's space.
// GRAINS: whether the pixels show grain that the mesh is too coarse for.
// CLEAR: whether some of it is seen through.
// MATERIAL: 0 not asked for, 1 each vertex has its own, 2 one for all.
uniform mat4 clip_from_part;
uniform mat3 eye_from_part;
in vec3 position;
in vec3 normal;
in vec4 colour;
out vec3 eye_normal;
out vec3 albedo;
out float masked;
#if MATERIAL == 1
in vec4 material;
out vec4 made_of;
#endif
#if CLEAR
in float opacity;
out float hides;
#endif
#if GRAINS
in vec3 seated;
in vec3 seated_normal;
in vec4 covered;
out vec3 place;
out vec3 seat;
out vec3 seat_normal;
out vec4 cover;
#endif
void main() {
    gl_Position = clip_from_part * vec4(position, 1.0);
    eye_normal = eye_from_part * normal;
    albedo = colour.rgb;
    masked = 1.0 - colour.a;
#if MATERIAL == 1
    made_of = material;
#endif
#if CLEAR
    hides = opacity;
#endif
#if GRAINS
    place = eye_from_part * position;
    seat = seated;
    seat_normal = seated_normal;
    cover = covered;
#endif
}
