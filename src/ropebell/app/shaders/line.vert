#version 330
uniform mat4 matrix;
in vec3 position;
void main() {
    gl_Position = matrix * vec4(position, 1.0);
    gl_Position.z -= 0.0004 * gl_Position.w;
}
