// Light on a fibre: along its length as a thin cylinder (Kajiya and Kay, 1989), dark towards the root, where others cover it.
uniform vec3 lamp;           // towards the lamp, in the eye's space
uniform vec3 lamp_colour;
uniform vec3 fill_colour;
uniform float plain;         // 1: colour alone
in vec3 along;
in vec3 normal;
in vec4 tint;
out vec4 picture;

void main() {
    if (dot(along, along) < 0.01) discard;
    vec3 t = normalize(along);
    vec3 n = normalize(normal);
    vec3 albedo = tint.rgb * tint.rgb;
    float tl = dot(t, lamp);
    float across = sqrt(max(1.0 - tl * tl, 0.0));
    // The coat as a whole has a lit and a shaded side; deep in it little light is left.
    float side = clamp(0.62 * dot(n, lamp) + 0.38, 0.0, 1.0);
    float deep = mix(0.32, 1.0, tint.a * (2.0 - tint.a));
    vec3 half_way = normalize(lamp + vec3(0.0, 0.0, 1.0));
    float th = dot(t, half_way);
    float shine = pow(sqrt(max(1.0 - th * th, 0.0)), 40.0) * 0.22 * side * tint.a;
    vec3 light = lamp_colour * across * side + fill_colour * (0.75 + 0.25 * n.z);
    vec3 lit = albedo * light * deep + shine * lamp_colour;
    lit = mix(lit, albedo, plain);
    // Where the picture can be brighter than a screen, so can this.
    picture = vec4(sqrt(max(lit, 0.0)), 1.0);
}
