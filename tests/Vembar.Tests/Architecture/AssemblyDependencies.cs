using System.Reflection;
using System.Reflection.Metadata;
using System.Reflection.Metadata.Ecma335;
using System.Reflection.PortableExecutable;

namespace Vembar.Tests.Architecture;

/// <summary>What the types of an assembly use, read from its metadata: signatures, base types, attributes, and every instruction that
/// names something.</summary>
internal sealed class AssemblyDependencies
{
    private readonly MetadataReader _metadata;
    private readonly PEReader _file;
    private readonly Dictionary<(string From, string To), string> _uses = [];

    private AssemblyDependencies(PEReader file)
    {
        _file = file;
        _metadata = file.GetMetadataReader();
    }

    /// <summary>Which namespace uses which, each with an example ("type uses type").</summary>
    public IReadOnlyDictionary<(string From, string To), string> Namespaces => _uses;

    /// <summary>The assemblies that it refers to.</summary>
    public IReadOnlyList<string> Assemblies { get; private init; } = [];

    /// <summary>Reads an assembly.</summary>
    public static AssemblyDependencies Of(Assembly assembly) => Of(assembly.Location);

    /// <summary>Reads an assembly.</summary>
    /// <param name="path">Its file.</param>
    public static AssemblyDependencies Of(string path)
    {
        using var file = new PEReader(File.OpenRead(path));
        // Read while the file is open.
        var metadata = file.GetMetadataReader();
        var found = new AssemblyDependencies(file)
        {
            Assemblies = [.. metadata.AssemblyReferences.Select(r => metadata.GetString(metadata.GetAssemblyReference(r).Name))],
        };
        foreach (var type in found._metadata.TypeDefinitions)
            found.Look(type);
        return found;
    }

    private void Look(TypeDefinitionHandle handle)
    {
        var type = _metadata.GetTypeDefinition(handle);
        var names = new TypeNames(_metadata);
        var used = new HashSet<string>();
        void Use(EntityHandle entity)
        {
            foreach (var name in names.Of(entity))
                used.Add(name);
        }
        if (!type.BaseType.IsNil)
            Use(type.BaseType);
        foreach (var implementation in type.GetInterfaceImplementations())
            Use(_metadata.GetInterfaceImplementation(implementation).Interface);
        foreach (var field in type.GetFields())
            used.UnionWith(_metadata.GetFieldDefinition(field).DecodeSignature(names, null));
        foreach (var method in type.GetMethods())
        {
            var definition = _metadata.GetMethodDefinition(method);
            var signature = definition.DecodeSignature(names, null);
            used.UnionWith(signature.ReturnType);
            foreach (var parameter in signature.ParameterTypes)
                used.UnionWith(parameter);
            if (definition.RelativeVirtualAddress != 0)
                LookInto(_file.GetMethodBody(definition.RelativeVirtualAddress), names, used);
        }
        var own = names.Of(handle).Single();
        foreach (var name in used)
        {
            var (from, to) = (NamespaceOf(own), NamespaceOf(name));
            if (from != to && from.StartsWith("Vembar", StringComparison.Ordinal) && to.StartsWith("Vembar", StringComparison.Ordinal))
                _uses.TryAdd((from, to), $"{own} uses {name}");
        }
    }

    private void LookInto(MethodBodyBlock body, TypeNames names, HashSet<string> used)
    {
        if (!body.LocalSignature.IsNil)
        {
            foreach (var local in _metadata.GetStandaloneSignature(body.LocalSignature).DecodeLocalSignature(names, null))
                used.UnionWith(local);
        }
        foreach (var token in Instructions.Tokens(body.GetILBytes()!))
        {
            var entity = MetadataTokens.EntityHandle(token);
            if (entity.Kind is HandleKind.TypeDefinition or HandleKind.TypeReference or HandleKind.TypeSpecification)
                used.UnionWith(names.Of(entity));
            else if (entity.Kind is HandleKind.MethodDefinition)
                used.UnionWith(names.Of(_metadata.GetMethodDefinition((MethodDefinitionHandle)entity).GetDeclaringType()));
            else if (entity.Kind is HandleKind.FieldDefinition)
                used.UnionWith(names.Of(_metadata.GetFieldDefinition((FieldDefinitionHandle)entity).GetDeclaringType()));
            else if (entity.Kind is HandleKind.MemberReference)
                used.UnionWith(names.Of(_metadata.GetMemberReference((MemberReferenceHandle)entity).Parent));
            else if (entity.Kind is HandleKind.MethodSpecification)
                LookAt(_metadata.GetMethodSpecification((MethodSpecificationHandle)entity), names, used);
        }
    }

    private void LookAt(MethodSpecification generic, TypeNames names, HashSet<string> used)
    {
        foreach (var argument in generic.DecodeSignature(names, null))
            used.UnionWith(argument);
        used.UnionWith(generic.Method.Kind == HandleKind.MemberReference
            ? names.Of(_metadata.GetMemberReference((MemberReferenceHandle)generic.Method).Parent)
            : names.Of(_metadata.GetMethodDefinition((MethodDefinitionHandle)generic.Method).GetDeclaringType()));
    }

    private static string NamespaceOf(string type) => type.LastIndexOf('.') is >= 0 and var dot ? type[..dot] : "";
}
