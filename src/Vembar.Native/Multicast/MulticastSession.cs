using System.Globalization;
using System.Net;
using System.Runtime.CompilerServices;

namespace Vembar.Native.Multicast;

/// <summary>A session of libnorm, with a thread that takes its events.</summary>
public abstract unsafe class MulticastSession : IDisposable
{
    private readonly nint _instance;
    private readonly Thread _events;
    private bool _isEnded;

    /// <summary>The session.</summary>
    protected nint Session { get; }

    /// <summary>Begins one.</summary>
    /// <param name="group">Where datagrams go.</param>
    /// <param name="node">A number that no other member of the group has.</param>
    /// <exception cref="NativeException">It cannot be.</exception>
    /// <exception cref="DllNotFoundException">libnorm is not installed.</exception>
    protected MulticastSession(MulticastGroup group, uint node)
    {
        _instance = NormLibrary.NormCreateInstance(false);
        if (_instance == 0)
            throw Failed("begin", group);
        Session = NormLibrary.NormCreateSession(_instance, group.Address.ToString(), (ushort)group.Port, node);
        if (Session == 0 || group.Interface.Length > 0 && !NormLibrary.NormSetMulticastInterface(Session, group.Interface))
        {
            NormLibrary.NormDestroyInstance(_instance);
            throw Failed("use", group);
        }
        _events = new Thread(TakeEvents) { IsBackground = true, Name = "multicast" };
    }

    /// <summary>Whether the library is there.</summary>
    public static bool IsThere => System.Runtime.InteropServices.NativeLibrary.TryLoad(NormLibrary.Name, out _);

    /// <summary>Begins to take events.</summary>
    protected void BeginEvents() => _events.Start();

    /// <summary>Says that something could not be.</summary>
    protected static NativeException Failed(string what, MulticastGroup group) =>
        new($"{what} multicast", string.Create(CultureInfo.InvariantCulture,
            $"{group.Address} port {group.Port} {group.Interface}").TrimEnd(),
            Errno.Invalid);

    private void TakeEvents()
    {
        NormLibrary.Event happened;
        while (!Volatile.Read(ref _isEnded) && NormLibrary.NormGetNextEvent(_instance, &happened, true))
            Happened((int)happened.Kind, happened.Sender, happened.Object);
    }

    /// <summary>Something happened; by the thread of events.</summary>
    /// <param name="kind">Which kind of event.</param>
    /// <param name="sender">Who sent; 0 for nobody.</param>
    /// <param name="handle">The object; 0 for none.</param>
    private protected abstract void Happened(int kind, nint sender, nint handle);

    /// <summary>The address that a sender sends from.</summary>
    [SkipLocalsInit]
    private protected static IPAddress? AddressOf(nint sender)
    {
        const int Longest = 16;
        var address = stackalloc byte[Longest];
        var length = (uint)Longest;
        ushort port;
        return sender != 0 && NormLibrary.NormNodeGetAddress(sender, address, &length, &port) && length is 4 or Longest
            ? new IPAddress(new ReadOnlySpan<byte>(address, (int)length)) : null;
    }

    /// <summary>What is left when no event comes any more.</summary>
    protected virtual void Ended()
    {
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (_isEnded)
            return;
        Volatile.Write(ref _isEnded, true);
        NormLibrary.NormStopInstance(_instance);
        if (_events.IsAlive)
            _events.Join();
        NormLibrary.NormDestroySession(Session);
        NormLibrary.NormDestroyInstance(_instance);
        Ended();
        GC.SuppressFinalize(this);
    }
}
