using System.Collections.Immutable;
using System.Reflection.Metadata;

namespace Vembar.Tests.Architecture;

/// <summary>The full names of all types that a signature is made of; of a nested type that of the outermost.</summary>
internal sealed class TypeNames(MetadataReader metadata) : ISignatureTypeProvider<ImmutableArray<string>, object?>
{
    /// <summary>The types that an entity names.</summary>
    public ImmutableArray<string> Of(EntityHandle entity) => entity.Kind switch
    {
        HandleKind.TypeDefinition => GetTypeFromDefinition(metadata, (TypeDefinitionHandle)entity, 0),
        HandleKind.TypeReference => GetTypeFromReference(metadata, (TypeReferenceHandle)entity, 0),
        HandleKind.TypeSpecification => GetTypeFromSpecification(metadata, null, (TypeSpecificationHandle)entity, 0),
        _ => [],
    };

    public ImmutableArray<string> GetTypeFromDefinition(MetadataReader reader, TypeDefinitionHandle handle, byte rawTypeKind)
    {
        var type = reader.GetTypeDefinition(handle);
        while (!type.GetDeclaringType().IsNil)
            type = reader.GetTypeDefinition(type.GetDeclaringType());
        return [Full(reader, type.Namespace, type.Name)];
    }

    public ImmutableArray<string> GetTypeFromReference(MetadataReader reader, TypeReferenceHandle handle, byte rawTypeKind)
    {
        var type = reader.GetTypeReference(handle);
        while (type.ResolutionScope.Kind == HandleKind.TypeReference)
            type = reader.GetTypeReference((TypeReferenceHandle)type.ResolutionScope);
        return [Full(reader, type.Namespace, type.Name)];
    }

    public ImmutableArray<string> GetTypeFromSpecification(MetadataReader reader, object? genericContext, TypeSpecificationHandle handle,
        byte rawTypeKind) =>
        reader.GetTypeSpecification(handle).DecodeSignature(this, genericContext);

    private static string Full(MetadataReader reader, StringHandle space, StringHandle name) =>
        $"{reader.GetString(space)}.{reader.GetString(name)}";

    public ImmutableArray<string> GetArrayType(ImmutableArray<string> elementType, ArrayShape shape) => elementType;

    public ImmutableArray<string> GetByReferenceType(ImmutableArray<string> elementType) => elementType;

    public ImmutableArray<string> GetFunctionPointerType(MethodSignature<ImmutableArray<string>> signature) =>
        [.. signature.ReturnType, .. signature.ParameterTypes.SelectMany(p => p)];

    public ImmutableArray<string> GetGenericInstantiation(ImmutableArray<string> genericType,
        ImmutableArray<ImmutableArray<string>> typeArguments) =>
        [.. genericType, .. typeArguments.SelectMany(a => a)];

    public ImmutableArray<string> GetGenericMethodParameter(object? genericContext, int index) => [];

    public ImmutableArray<string> GetGenericTypeParameter(object? genericContext, int index) => [];

    public ImmutableArray<string> GetModifiedType(ImmutableArray<string> modifier, ImmutableArray<string> unmodifiedType,
        bool isRequired) =>
        [.. modifier, .. unmodifiedType];

    public ImmutableArray<string> GetPinnedType(ImmutableArray<string> elementType) => elementType;

    public ImmutableArray<string> GetPointerType(ImmutableArray<string> elementType) => elementType;

    public ImmutableArray<string> GetPrimitiveType(PrimitiveTypeCode typeCode) => [];

    public ImmutableArray<string> GetSZArrayType(ImmutableArray<string> elementType) => elementType;
}
