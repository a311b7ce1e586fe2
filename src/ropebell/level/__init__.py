"""The level as data: scene, nodes, meshes, materials, lights; glTF 2.0 and OBJ in, glTF out.

Conventions everywhere: right-handed, Y up, metres; colours are linear RGB; point and spot lights in
candela, directional lights in lux, emitters and sky in cd/m².
"""
