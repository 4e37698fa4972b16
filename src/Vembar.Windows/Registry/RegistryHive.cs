using System.Text;
using Vembar.Common;
using Vembar.Common.Formats;
using Vembar.Images.Nodes;
using Vembar.Windows.Registry.Hives;

namespace Vembar.Windows.Registry;

/// <summary>A registry hive in memory, to read and, when opened so, to change. One thread at a time.</summary>
public sealed class RegistryHive
{
    /// <summary>No hive longer than this is opened, in bytes.</summary>
    public const long Longest = 1L << 30;

    private readonly HiveImage _image;
    private readonly HiveEditor? _editor;
    private readonly long _time;
    private readonly string _shown;

    private RegistryHive(HiveImage image, HiveEditor? editor, long time, string displayName)
    {
        _image = image;
        _editor = editor;
        _time = time;
        _shown = displayName;
    }

    /// <summary>Opens a hive from its bytes. One that is to be changed is looked over first.</summary>
    /// <param name="bytes">The file's bytes; they are the hive's own from then on.</param>
    /// <param name="write">Whether it will be changed.</param>
    /// <param name="displayName">What it is, for messages.</param>
    /// <param name="time">The time that changed keys get; null for now.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">It is not a hive, or damaged, or not written to its end and to be changed.</exception>
    public static RegistryHive Open(byte[] bytes, bool write, string displayName, DateTime? time = null,
        CancellationToken cancellation = default)
    {
        if (bytes.Length < HiveImage.BlockLength || !bytes.AsSpan().StartsWith("regf"u8))
            throw VembarException.Input("bad-hive", $"{displayName} is not a registry hive", Hint);
        var when = (time ?? TimeProvider.System.GetUtcNow().UtcDateTime).ToFileTimeUtc();
        try
        {
            var image = HiveImage.Open(bytes);
            _ = KeyCell.At(image, image.Root);
            var hive = new RegistryHive(image, null, when, displayName);
            return write ? hive.ForChanges(when, cancellation) : hive;
        }
        catch (BinaryFormatException problem)
        {
            throw Damaged(displayName, problem);
        }
    }

    /// <summary>Opens a hive that is only read, and whose pieces may be shared with another.</summary>
    /// <param name="pieces">The file, in pieces that follow each other; none is written to.</param>
    /// <param name="displayName">What it is, for messages.</param>
    /// <exception cref="VembarException">It is not a hive, or damaged.</exception>
    public static RegistryHive OpenShared(IEnumerable<byte[]> pieces, string displayName)
    {
        try
        {
            var image = HiveImage.Open(new HivePieces(pieces));
            _ = KeyCell.At(image, image.Root);
            return new RegistryHive(image, null, 0, displayName);
        }
        catch (BinaryFormatException problem)
        {
            throw Damaged(displayName, problem);
        }
    }

    /// <summary>The same hive, looked over, to be changed; this one changes with it.</summary>
    /// <param name="time">The time that changed keys get, UTC.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">It is damaged, or was not written to its end.</exception>
    public RegistryHive ForChanges(DateTime time, CancellationToken cancellation) => ForChanges(time.ToFileTimeUtc(), cancellation);

    private RegistryHive ForChanges(long time, CancellationToken cancellation)
    {
        if (!_image.IsWhole)
            throw VembarException.Input("bad-hive", $"{_shown} was not written to its end, and is not changed",
                "Let that Windows start and shut down once more, or take the file from another copy of the install.");
        var cells = Guard(() => HiveCheck.Run(_image, cancellation));
        cells.Time = time;
        return new RegistryHive(_image, new HiveEditor(_image, cells, time), time, _shown);
    }

    /// <summary>Opens a hive that may be damaged, to read what of it is sound; what is not is passed over and told.</summary>
    /// <param name="bytes">The file's bytes; they are the hive's own from then on.</param>
    /// <param name="displayName">What it is, for messages.</param>
    /// <param name="damaged">Told of each damage that is met.</param>
    /// <exception cref="VembarException">It is not a hive, or not even its beginning is sound.</exception>
    public static RegistryHive OpenAsFarAsSound(byte[] bytes, string displayName, Action<string> damaged)
    {
        var hive = Open(bytes, write: false, displayName);
        hive._damaged = damaged;
        return hive;
    }

    private Action<string>? _damaged;

    /// <summary>Whether a damage is to be passed over; then it was told.</summary>
    internal bool PassesOver(BinaryFormatException problem)
    {
        _damaged?.Invoke(Damaged(_shown, problem).Message);
        return _damaged is not null;
    }

    private const string Hint = "Take the file from another copy of the install.";

    private static VembarException Damaged(string displayName, BinaryFormatException problem) =>
        VembarException.Input("bad-hive", $"{displayName} is a damaged registry hive: {problem.Message}", Hint);

    /// <summary>The number of the newest change that the hive has, to compare with its logs.</summary>
    public uint SequenceNumber => System.Buffers.Binary.BinaryPrimitives.ReadUInt32LittleEndian(_image.Base[8..]);

    /// <summary>The root key.</summary>
    public RegistryKey Root => new(this, _image.Root);

    /// <summary>The key at a path of names separated by '\', or null.</summary>
    public RegistryKey? Key(string path) => Root.Key(path);

    /// <summary>The hive's bytes with all changes.</summary>
    public byte[] ToBytes() => _image.ToBytes(_time);

    /// <summary>The hive with all changes as content to be stored; it is not copied, so the hive must not be changed until then.</summary>
    internal NewContent ToContent()
    {
        _image.Conclude(_time);
        return NewContent.From(() => new HiveStream(_image.Pieces(), _image.FileLength), _image.FileLength);
    }

    /// <summary>The length of the hive's file as it is now, in bytes.</summary>
    public long Length => HiveImage.BlockLength + (long)_image.Length;

    /// <summary>The hive's bytes with all changes, written anew without what was given up.</summary>
    /// <param name="cancellation">Ends it.</param>
    public byte[] ToCompactBytes(CancellationToken cancellation) => Guard(() => HiveRewrite.Run(_image, _time, cancellation));

    internal HiveImage Image => _image;

    internal HiveEditor Editor => _editor ?? throw new InvalidOperationException($"{_shown} was not opened to be changed");

    // The places of the values of one key, by their names in upper case.
    private Dictionary<string, int>? _places;
    private int _placesOf;

    internal Dictionary<string, int> PlacesOf(int key)
    {
        if (_places is not null && _placesOf == key)
            return _places;
        _places = [];
        _placesOf = key;
        var values = HiveReader.Values(_image, key);
        for (var i = 0; i < values.Length; i++)
            _places.TryAdd(new string(HiveText.Upper(ValueCell.At(_image, values[i]).Name)), i);
        return _places;
    }

    internal void Added(int key, string name)
    {
        if (_places is not null && _placesOf == key)
            _places.TryAdd(new string(HiveText.Upper(name)), HiveReader.Values(_image, key).Length - 1);
    }

    internal void ForgetPlaces() => _places = null;

    /// <summary>Tells what differs between this hive and another, key by key in the order of this one.</summary>
    /// <param name="other">The other.</param>
    /// <param name="found">Told of each difference.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <exception cref="VembarException">One of them is damaged.</exception>
    public void Compare(RegistryHive other, Action<RegistryDifference> found, CancellationToken cancellation)
    {
        try
        {
            new HiveDifferences(_image, other._image, found, cancellation).Find();
        }
        catch (BinaryFormatException problem)
        {
            // Which of the two has it is known by looking all over the first.
            Guard(() => HiveCheck.Run(_image, cancellation));
            throw Damaged(other._shown, problem);
        }
    }

    /// <summary>Does something and says of damage which hive has it.</summary>
    /// <param name="work">What is done.</param>
    /// <param name="sound">What there is without what is damaged, for hives that are read as far as they are sound; null where there is
    /// nothing.</param>
    internal T Guard<T>(Func<T> work, Func<T>? sound = null)
    {
        try
        {
            return work();
        }
        catch (BinaryFormatException problem) when (sound is not null && PassesOver(problem))
        {
            return sound();
        }
        catch (BinaryFormatException problem)
        {
            throw Damaged(_shown, problem);
        }
    }

    /// <summary>The bytes of a hive that holds nothing but a root key, which Windows and administrators own and users may read.</summary>
    /// <param name="rootName">The root key's name, in ASCII.</param>
    /// <remarks>Source: "Windows registry file format specification" (Suhanov), sections "Base block", "Hive bin", "Key node", "Key
    /// security".</remarks>
    public static byte[] NewEmpty(string rootName = "ROOT")
    {
        const int Base = 4096, Bin = 4096, First = 32;
        const uint None = 0xFFFFFFFF;
        var hive = new byte[Base + Bin];
        var time = new DateTime(2026, 1, 1, 0, 0, 0, DateTimeKind.Utc).ToFileTimeUtc();
        var name = Encoding.ASCII.GetBytes(rootName);
        static void U16(Span<byte> at, int value) => System.Buffers.Binary.BinaryPrimitives.WriteUInt16LittleEndian(at, (ushort)value);
        static void U32(Span<byte> at, uint value) => System.Buffers.Binary.BinaryPrimitives.WriteUInt32LittleEndian(at, value);

        var head = hive.AsSpan(0, Base);
        "regf"u8.CopyTo(head);
        U32(head[4..], 1);
        U32(head[8..], 1);
        System.Buffers.Binary.BinaryPrimitives.WriteInt64LittleEndian(head[12..], time);
        U32(head[20..], 1);
        U32(head[24..], 5);
        U32(head[32..], 1);
        U32(head[36..], First);
        U32(head[40..], Bin);
        U32(head[44..], 1);
        uint sum = 0;
        for (var i = 0; i < 508; i += 4)
            sum ^= System.Buffers.Binary.BinaryPrimitives.ReadUInt32LittleEndian(head[i..]);
        U32(head[508..], sum switch { 0 => 1, None => None - 1, _ => sum });

        var bin = hive.AsSpan(Base, Bin);
        "hbin"u8.CopyTo(bin);
        U32(bin[8..], Bin);
        System.Buffers.Binary.BinaryPrimitives.WriteInt64LittleEndian(bin[20..], time);

        var keyLength = (4 + 76 + name.Length + 7) / 8 * 8;
        var descriptor = KeySecurity();
        var securityAt = First + keyLength;
        var securityLength = (4 + 20 + descriptor.Length + 7) / 8 * 8;
        var key = bin[First..];
        System.Buffers.Binary.BinaryPrimitives.WriteInt32LittleEndian(key, -keyLength);
        key = key[4..];
        "nk"u8.CopyTo(key);
        U16(key[2..], 0x2C);
        System.Buffers.Binary.BinaryPrimitives.WriteInt64LittleEndian(key[4..], time);
        U32(key[16..], None);
        U32(key[28..], None);
        U32(key[32..], None);
        U32(key[40..], None);
        U32(key[44..], (uint)securityAt);
        U32(key[48..], None);
        U16(key[72..], name.Length);
        name.CopyTo(key[76..]);

        var security = bin[securityAt..];
        System.Buffers.Binary.BinaryPrimitives.WriteInt32LittleEndian(security, -securityLength);
        security = security[4..];
        "sk"u8.CopyTo(security);
        U32(security[4..], (uint)securityAt);
        U32(security[8..], (uint)securityAt);
        U32(security[12..], 1);
        U32(security[16..], (uint)descriptor.Length);
        descriptor.CopyTo(security[20..]);

        var free = securityAt + securityLength;
        System.Buffers.Binary.BinaryPrimitives.WriteInt32LittleEndian(bin[free..], Bin - free);
        return hive;
    }

    // A self-relative security descriptor (MS-DTYP 2.4.6): SYSTEM and Administrators all, Users read; handed down to subkeys.
    private static byte[] KeySecurity()
    {
        byte[] system = [1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0];
        byte[] administrators = [1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0];
        byte[] users = [1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x21, 2, 0, 0];
        static byte[] Allow(uint rights, byte[] who) => [0, 2, (byte)(8 + who.Length), 0, .. BitConverter.GetBytes(rights), .. who];
        const uint AllRights = 0xF003F, ReadRights = 0x20019;
        byte[] entries = [.. Allow(AllRights, system), .. Allow(AllRights, administrators), .. Allow(ReadRights, users)];
        byte[] list = [2, 0, (byte)(8 + entries.Length), 0, 3, 0, 0, 0, .. entries];
        const int HeadLength = 20;
        byte[] head = [1, 0, 0x04, 0x80, .. BitConverter.GetBytes(HeadLength + list.Length),
            .. BitConverter.GetBytes(HeadLength + list.Length + administrators.Length), 0, 0, 0, 0, .. BitConverter.GetBytes(HeadLength)];
        return [.. head, .. list, .. administrators, .. system];
    }
}
