#version 330
// What lies behind the clay: a calm tone that darkens towards the rim.
uniform vec2 size;
uniform vec3 ground_middle;
uniform vec3 ground_rim;
uniform float clear_ground;
out vec4 picture;

vec3 ground(vec2 at) {
    vec2 off = (at / size - vec2(0.5, 0.54)) * vec2(max(size.x / size.y, 1.0), 1.0);
    // A slow fall from the middle; the square keeps it flat where the clay stands.
    vec3 colour = mix(ground_middle, ground_rim, min(dot(off, off) * 1.15, 1.0));
    // A pattern of half a step hides the bands that a slow gradient has in eight bits.
    float grain = fract(at.x * 0.7548776 + at.y * 0.5698403) - 0.5;
    return colour + grain / 255.0;
}

void main() {
    picture = vec4(ground(gl_FragCoord.xy), 1.0) * (1.0 - clear_ground);
}
