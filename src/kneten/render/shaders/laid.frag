// What a part is at each pixel, as pictures laid on it say, or a checker, or a colour for each face.
// CHECKER, COLOUR, NORMAL, MATERIAL: which of them there are; MATERIAL 2 is one for all.
uniform float mark;
uniform float squares;
uniform sampler2D colours;
uniform sampler2D normals_laid;
uniform sampler2D materials_laid;
uniform vec4 material_of_all;
in vec3 eye_normal;
in vec3 albedo;
in float masked;
in vec2 uv;
in vec4 tangent;
flat in vec4 tint;
layout(location = 0) out vec4 out_normal;
layout(location = 1) out vec4 out_albedo;
#if MATERIAL
layout(location = 2) out vec4 out_material;
#endif
void main() {
    vec3 n = normalize(eye_normal);
#if NORMAL
    // The standard's frame: interpolated and not made of length one before the picture's normal is taken in it.
    vec3 side = tangent.w * cross(eye_normal, tangent.xyz);
    vec3 bent = texture(normals_laid, uv).xyz * 2.0 - 1.0;
    n = normalize(bent.x * tangent.xyz + bent.y * side + bent.z * eye_normal);
#endif
    if (!gl_FrontFacing) n = -n;
    out_normal = vec4(n, mark);
    vec3 clay = albedo;
#if COLOUR
    clay = texture(colours, uv).rgb;
#endif
#if CHECKER
    vec2 at = uv * squares;
    vec2 cell = floor(at);
    vec2 within = fract(at);
    float odd = mod(cell.x + cell.y, 2.0);
    clay = mix(vec3(0.33, 0.36, 0.39), vec3(0.87, 0.84, 0.78), odd);
    // A corner of each square says which way up it lies, and which side out.
    if (within.x < 0.34 && within.y < 0.34 && within.x + within.y < 0.34)
        clay = mix(vec3(0.36, 0.60, 0.52), vec3(0.76, 0.48, 0.33), mod(floor(cell.x / 4.0) + floor(cell.y / 4.0), 2.0));
#endif
    clay = mix(clay, tint.rgb, tint.a);
#if MATERIAL == 1
    vec4 made = texture(materials_laid, uv);
    out_material = vec4(made.g, made.b, 0.0, 0.0);
#elif MATERIAL == 2
    out_material = material_of_all;
#endif
    out_albedo = vec4(gl_FrontFacing ? clay : clay * 0.55, gl_FrontFacing ? 1.0 : 0.0);
}
