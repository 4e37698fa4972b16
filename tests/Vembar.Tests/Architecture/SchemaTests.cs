using Vembar.Operations.Builds;
using Vembar.Operations.Project;
using Vembar.Windows.Servicing.Orders;
using Xunit;

namespace Vembar.Tests.Architecture;

/// <summary>The schemas among the documents are those that the program prints.</summary>
public class SchemaTests
{
    public static TheoryData<string, string> All() => new()
    {
        { "work-order", OrderSchema.Text() }, { "project", ProjectSchema.Text() }, { "recipe", RecipeSchema.Text() },
    };

    [Theory]
    [MemberData(nameof(All))]
    public void TheDocumentIsWhatIsPrinted(string name, string text) =>
        Assert.Equal(text, File.ReadAllText(Path.Combine(Repository.Root, $"docs/schemas/{name}.schema.json")));
}
