uniform vec4 ink;
out vec4 picture;
void main() { picture = ink; }
