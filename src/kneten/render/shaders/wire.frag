uniform vec4 ink;
in float strength;
out vec4 picture;
void main() { picture = vec4(ink.rgb, ink.a * strength); }
