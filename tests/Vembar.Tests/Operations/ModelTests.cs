using CsCheck;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Capture;
using Vembar.Operations.History;
using Vembar.Store.Compression;
using Vembar.Store.Reading;
using Vembar.Windows.Servicing;
using Vembar.Windows.Servicing.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>
/// Two archives go through a long run of changes of every kind, some of them cut off. A model that keeps everything in memory says
/// what each archive has to list and hold.
/// </summary>
public sealed class ModelTests
{
    // What is in an image: paths with their bytes; null for a folder.
    private sealed class Snapshot : SortedDictionary<string, byte[]?>
    {
        public Snapshot() : base(StringComparer.Ordinal)
        {
        }

        public Snapshot(Snapshot other) : base(other, StringComparer.Ordinal)
        {
        }
    }

    private sealed record Image(int Number, string Name, Snapshot Holds);

    private sealed class Model(string path)
    {
        public string Path => path;
        public List<IReadOnlyList<Image>> States { get; } = [];
        public int Next { get; set; } = 1;
        public IReadOnlyList<Image> Images => States.Count == 0 ? [] : States[^1];

        public void Add(string name, Snapshot holds)
        {
            // A new archive begins with a state without images.
            if (States.Count == 0)
                States.Add([]);
            States.Add([.. Images, new Image(Next++, name, holds)]);
        }

        public void Replace(Image image) => States.Add([.. Images.Select(i => i.Number == image.Number ? image : i)]);
    }

    // One run, made of a seed.
    private sealed class Run(int seed, TempFolder folder)
    {
        private readonly Random _random = new(seed);
        private readonly Model[] _models = [new(folder.At("one.vmb")), new(folder.At("two.vmb"))];
        private readonly List<string> _done = [];
        private int _names;

        private string Source => folder.At("src");

        private bool Chance(int inSo) => _random.Next(inSo) == 0;

        private byte[] Bytes()
        {
            // Most are small; some are cut into several chunks; some hold what others hold, at another place.
            var bytes = new byte[_random.Next(4) switch
            {
                0 => 0,
                1 => _random.Next(100),
                2 => _random.Next(20_000),
                _ =>
                _random.Next(900_000)
            }];
            new Random(_random.Next(6)).NextBytes(bytes.AsSpan(Math.Min(bytes.Length, _random.Next(3) * 1000)));
            return bytes;
        }

        private void ChangeSource()
        {
            for (var i = _random.Next(1, 6); i > 0; i--)
            {
                var path = $"{(char)('a' + _random.Next(3))}/{(char)('a' + _random.Next(3))}/{_random.Next(5)}";
                if (Chance(4) && File.Exists(folder.At($"src/{path}")))
                    File.Delete(folder.At($"src/{path}"));
                else
                    folder.Write($"src/{path}", Bytes());
            }
            if (Chance(5) && Directory.Exists(folder.At("src/a")))
                Directory.Delete(folder.At("src/a"), recursive: true);
        }

        private Snapshot OfSource()
        {
            var holds = new Snapshot();
            foreach (var path in Directory.EnumerateFileSystemEntries(Source, "*", SearchOption.AllDirectories))
                holds[Path.GetRelativePath(Source, path)] = Directory.Exists(path) ? null : File.ReadAllBytes(path);
            return holds;
        }

        private static ImageReference Of(Model model, Image image) => new(model.Path, $"{image.Number}");

        private string NewName() => $"image {++_names}";

        private CaptureRequest Request(Model model, string name) => new()
        {
            Source = Source,
            Archive = model.Path,
            Name = name,
            Effort = (Effort)_random.Next(2),
            Reread = Chance(3),
        };

        public void Step()
        {
            var model = _models[_random.Next(2)];
            var image = model.Images.Count == 0 ? null : model.Images[_random.Next(model.Images.Count)];
            var kind = _random.Next(10);
            _done.Add($"{kind} on {Path.GetFileName(model.Path)}{(image is null ? "" : $"#{image.Number}")}");
            switch (kind)
            {
                case 0 or 1 or 2:
                    ChangeSource();
                    var name = NewName();
                    Do.Capture(Request(model, name), NoProgress.Instance, CancellationToken.None);
                    model.Add(name, OfSource());
                    break;
                case 3 when image is not null:
                    Do.Drop(Of(model, image), default);
                    model.States.Add([.. model.Images.Where(i => i != image)]);
                    break;
                case 4 when image is not null:
                    var title = NewName();
                    Do.Retitle(new RetitleRequest { Image = Of(model, image), Name = title });
                    model.Replace(image with { Name = title });
                    break;
                case 5 when image is not null:
                    Service(model, image);
                    break;
                case 6 when image is not null:
                    var other = _models.Single(m => m != model);
                    var copied = NewName();
                    Do.Copy(Of(model, image), other.Path, copied, default, NoProgress.Instance, CancellationToken.None);
                    other.Add(copied, image.Holds);
                    break;
                case 7 when model.States.Count > 1:
                    var back = _random.Next(model.States.Count);
                    Do.Rewind(model.Path, back, default);
                    // Where it is already, nothing is written.
                    if (back < model.States.Count - 1)
                        model.States.Add(model.States[back]);
                    break;
                case 8 when model.States.Count > 0 && Chance(2):
                    Do.Compact(model.Path, Chance(2) ? null : (Effort)_random.Next(2), default, NoProgress.Instance,
                        CancellationToken.None);
                    var images = model.Images;
                    model.States.Clear();
                    // A compacted archive has the state that it was made with and the one with all images.
                    model.States.AddRange([[], images]);
                    break;
                case 9:
                    CutOff(model);
                    break;
            }
        }

        private void Service(Model model, Image image)
        {
            var holds = new Snapshot(image.Holds);
            var changes = new List<IChange>();
            if (holds.Where(h => h.Value is not null).Select(h => h.Key).ToList() is { Count: > 0 } files)
            {
                var gone = files[_random.Next(files.Count)];
                changes.Add(new RemoveChange(gone));
                holds.Remove(gone);
            }
            var bytes = Bytes();
            var put = $"put/{_random.Next(3)}";
            changes.Add(new PutChange(folder.Write("put", bytes), put));
            var isChange = !holds.TryGetValue(put, out var before) || !before.AsSpan().SequenceEqual(bytes) || changes.Count > 1;
            holds[put] = bytes;
            holds["put"] = null;
            if (Chance(2))
            {
                var name = NewName();
                Do.Service($"{model.Path}#{image.Number}", name, [.. changes]);
                model.Add(name, holds);
            }
            else
            {
                Do.Service($"{model.Path}#{image.Number}", null, [.. changes]);
                if (isChange)
                    model.Replace(image with { Holds = holds });
            }
        }

        // The power goes at some point of a capture: all is as it was, or the image is there.
        private void CutOff(Model model)
        {
            ChangeSource();
            var name = NewName();
            var isNew = !File.Exists(model.Path);
            try
            {
                Do.Capture(Request(model, name), NoProgress.Instance, CancellationToken.None,
                    new CrashLayer(_random.Next(14), torn: Chance(2)));
            }
            catch (PowerCutException)
            {
                if (!File.Exists(model.Path))
                    return;
                using var reader = ArchiveReader.Open(model.Path);
                if (reader.Images.All(i => i.Name != name))
                {
                    if (isNew)
                        model.States.Add([]);
                    return;
                }
            }
            model.Add(name, OfSource());
        }

        public void Check(bool everything)
        {
            foreach (var model in _models.Where(m => File.Exists(m.Path)))
            {
                using (var reader = ArchiveReader.Open(model.Path))
                {
                    Assert.Equal(model.Images.Select(i => (i.Number, i.Name)).Order(), reader.Images.Select(i => (i.Number, i.Name)));
                    foreach (var image in everything ? model.Images : [.. model.Images.TakeLast(1)])
                    {
                        var record = reader.Find($"{image.Number}");
                        var tree = new ImageTree(reader, record.Root, model.Path);
                        var found = tree.Walk(tree.Root, WindowsPath.Root).ToList();
                        Assert.Equal(image.Holds.Keys, found.Select(f => f.Path.ToString()).Order(StringComparer.Ordinal));
                        foreach (var (path, entry) in found.Where(f => f.Entry.Kind == EntryKind.File))
                            Assert.True(image.Holds[path.ToString()].AsSpan().SequenceEqual(tree.ReadFile(path, 1 << 20)),
                                $"{path} in {image.Name}");
                        Assert.Equal(image.Holds.Values.Count(v => v is not null), record.Files);
                        Assert.Equal(image.Holds.Values.Sum(v => v?.LongLength ?? 0), record.Bytes);
                    }
                }
                Assert.Equal(model.States.Count, Do.History(model.Path).Count);
                var verified = Do.Verify(model.Path);
                Assert.Empty(verified.Damage);
            }
        }

        public override string ToString() => string.Join(", ", _done);
    }

    [Fact]
    public void AnyRunOfChangesGivesWhatAModelGives() => Gen.Int[0, int.MaxValue - 1].Sample(seed =>
    {
        using var folder = new TempFolder();
        folder.Write("src/a/first", "first");
        var run = new Run(seed, folder);
        try
        {
            for (var step = 0; step < 18; step++)
            {
                run.Step();
                run.Check(everything: step % 6 == 5);
            }
        }
        catch (Exception failure) when (failure is not OutOfMemoryException)
        {
            throw new InvalidOperationException($"seed {seed}: {run}: {failure.Message}", failure);
        }
    }, iter: 12, threads: 1);
}
