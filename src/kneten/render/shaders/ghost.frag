uniform vec3 ink;
uniform float strength;
in vec3 eye_normal;
out vec4 picture;
void main() {
    // Seen edge-on a surface shows, seen flat it does not: only outlines are left.
    float edge = 1.0 - abs(normalize(eye_normal).z);
    picture = vec4(ink, strength * edge * edge * edge);
}
