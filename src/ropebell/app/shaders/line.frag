#version 330
uniform vec4 color;
out vec4 shown;
void main() { shown = color; }
