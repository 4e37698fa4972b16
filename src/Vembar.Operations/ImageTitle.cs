using Vembar.Images.Records;

namespace Vembar.Operations;

/// <summary>What people say of an image, to be changed in its record; null leaves it.</summary>
public sealed record ImageTitle
{
    /// <summary>The new version.</summary>
    public string? Version { get; init; }

    /// <summary>The new edition.</summary>
    public string? Edition { get; init; }

    /// <summary>The new remark.</summary>
    public string? Note { get; init; }

    /// <summary>Labels to set; an empty text takes one away.</summary>
    public IReadOnlyDictionary<string, string> Labels { get; init; } = new Dictionary<string, string>();

    /// <summary>Whether a record says so already.</summary>
    public bool IsIn(ImageRecord image) =>
        (Version ?? image.Version) == image.Version && (Edition ?? image.Edition) == image.Edition && (Note ?? image.Note) == image.Note
        && Labels.All(l => image.Labels.GetValueOrDefault(l.Key, "") == l.Value);

    /// <summary>The record with it.</summary>
    public ImageRecord In(ImageRecord image)
    {
        var labels = new Dictionary<string, string>(image.Labels);
        foreach (var (key, value) in Labels)
        {
            if (value.Length > 0)
                labels[key] = value;
            else
                labels.Remove(key);
        }
        return image with
        {
            Version = Version ?? image.Version,
            Edition = Edition ?? image.Edition,
            Note = Note ?? image.Note,
            Labels = labels,
        };
    }
}
