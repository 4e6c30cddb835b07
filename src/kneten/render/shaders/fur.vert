// A fibre's vertex: where it is, which way the fibre leads, and which way is off the clay at its root.
uniform mat4 clip_from_part;
uniform mat3 eye_from_part;
in vec3 position;
in vec4 way;     // 0 to 254 of 255 is -1 to 1; w: how far along the fibre
in vec4 off;
in vec4 colour;
out vec3 along;
out vec3 normal;
out vec4 tint;   // a: how little it is covered: 1 at the tip, and where the coat is short

void main() {
    gl_Position = clip_from_part * vec4(position, 1.0);
    along = eye_from_part * (way.xyz * (255.0 / 127.0) - 1.0);
    normal = eye_from_part * (off.xyz * (255.0 / 127.0) - 1.0);
    tint = vec4(colour.rgb, 1.0 - (1.0 - way.w) * colour.a);
}
