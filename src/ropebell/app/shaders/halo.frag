#version 330
uniform sampler2D picture;
in vec2 at;
out vec4 color;
void main() { color = vec4(textureLod(picture, 0.5 + 0.5 * at, 0.0).rgb, 0.0); }
