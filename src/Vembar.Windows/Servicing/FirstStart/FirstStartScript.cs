using System.Globalization;
using System.Text;
using Vembar.Images.Editing;
using Vembar.Images.Nodes;
using Vembar.Images.Paths;
using Vembar.Images.Reading;

namespace Vembar.Windows.Servicing.FirstStart;

/// <summary>
/// The script that Windows runs once as SYSTEM at the end of set-up, before anybody logs on
/// (Windows/Setup/Scripts/SetupComplete.cmd). Lines that others wrote into it are kept.
/// </summary>
/// <remarks>Source: the vendor's "Add a custom script to Windows Setup".</remarks>
public sealed class FirstStartScript
{
    private const string ScriptPath = "Setup/Scripts/SetupComplete.cmd", Begin = "rem begin vembar ", End = "rem end vembar ",
        Log = @"%SystemRoot%\Setup\Scripts\first-start.log";
    private const long Longest = 1 << 20;
    private readonly List<(string? Name, List<string> Lines)> _parts = [];

    private FirstStartScript(string text)
    {
        foreach (var line in text.ReplaceLineEndings("\n").Split('\n'))
        {
            if (line.StartsWith(Begin, StringComparison.Ordinal))
                _parts.Add((line[Begin.Length..], []));
            else if (_parts is [.., { Name: { } name } last] && line != End + name)
                last.Lines.Add(line);
            else if (line.StartsWith(End, StringComparison.Ordinal))
                _parts.Add((null, []));
            else
            {
                if (_parts is not [.., { Name: null }])
                    _parts.Add((null, []));
                _parts[^1].Lines.Add(line);
            }
        }
    }

    /// <summary>Reads the script of an image; an empty one when it has none.</summary>
    /// <param name="files">The image.</param>
    /// <param name="windows">Its Windows folder.</param>
    public static FirstStartScript Read(IReadOnlyTree files, WindowsPath windows) =>
        new(Encoding.UTF8.GetString(files.ReadFile(PathIn(windows), Longest) ?? []));

    /// <summary>Where the script is.</summary>
    public static WindowsPath PathIn(WindowsPath windows) => windows.Append(WindowsPath.Parse(ScriptPath));

    /// <summary>The commands that were added here, in the order in which they run.</summary>
    public IReadOnlyList<FirstStartCommand> Commands =>
        [.. _parts.Where(p => p.Name is not null).Select(p => new FirstStartCommand(p.Name!, CommandOf(p.Lines), GoodOf(p.Lines)))];

    private static string CommandOf(List<string> lines) =>
        lines.Find(l => l.StartsWith("cmd /d /c \"", StringComparison.Ordinal)) is { } line ? line[11..^1] : "";

    private static List<int> GoodOf(List<string> lines) => lines.Find(l => l.StartsWith("rem good ", StringComparison.Ordinal)) is { } line
        ? [.. line[9..].Split(' ').Select(c => int.TryParse(c, CultureInfo.InvariantCulture, out var code) ? code : 0)] : [0];

    /// <summary>Why a command cannot be in a script; null when it can.</summary>
    public static string? Problem(FirstStartCommand command)
    {
        const int LongestCommand = 8000;
        return command.Name.Length == 0 || command.Name.Any(c => !char.IsAsciiLetterOrDigit(c) && c is not (' ' or '-' or '_' or '.'))
            ? $"'{command.Name}' is not a name for a first-start command: letters, digits, blanks, '-', '_' and '.' are"
            : command.Command.Trim().Length == 0 ? "there is no command"
            : command.Command.Any(char.IsControl) ? "a first-start command is one line"
            : command.Command.Length > LongestCommand ? $"a command of more than {LongestCommand} characters cannot run" : null;
    }

    /// <summary>Adds a command at the end, or puts it in the place of the one of that name.</summary>
    /// <returns>Whether anything changed.</returns>
    public bool Set(FirstStartCommand command)
    {
        if (Commands.FirstOrDefault(c => c.Name == command.Name) is { } there && there.Command == command.Command
            && there.Good.SequenceEqual(command.Good))
            return false;
        var good = string.Join(' ', command.Good.Select(g => g.ToString(CultureInfo.InvariantCulture)));
        List<string> lines =
        [
            $"rem good {good}",
            $">>\"{Log}\" echo %DATE% %TIME% {command.Name}: begins",
            $"cmd /d /c \"{command.Command}\"",
            "set VEMBAR_CODE=%ERRORLEVEL%",
            "set VEMBAR_WORD=FAILED",
            .. command.Good.Select(g => string.Create(CultureInfo.InvariantCulture, $"if \"%VEMBAR_CODE%\"==\"{g}\" set VEMBAR_WORD=done")),
            $">>\"{Log}\" echo %DATE% %TIME% {command.Name}: %VEMBAR_WORD%, exit code %VEMBAR_CODE%",
        ];
        var at = _parts.FindIndex(p => p.Name == command.Name);
        if (at >= 0)
            _parts[at] = (command.Name, lines);
        else
            _parts.Add((command.Name, lines));
        return true;
    }

    /// <summary>Takes a command out.</summary>
    public bool Remove(string name) => _parts.RemoveAll(p => p.Name == name) > 0;

    /// <summary>Writes the script into the image; takes it away when there is nothing in it any more.</summary>
    /// <param name="tree">The image.</param>
    /// <param name="windows">Its Windows folder.</param>
    /// <param name="keepFolders">Whether its folder stays, also when it is empty.</param>
    public void Write(TreeEditor tree, WindowsPath windows, bool keepFolders = false)
    {
        var path = PathIn(windows);
        var foreign = _parts.Where(p => p.Name is null).SelectMany(p => p.Lines).Any(l => l.Length > 0 && l != "@echo off");
        if (Commands.Count == 0 && !foreign)
        {
            if (tree.Find(path) is { } node)
                tree.Remove(node);
            foreach (var folder in keepFolders ? [] : (WindowsPath[])[path.Parent, path.Parent.Parent])
            {
                // Folders that were there for the script alone.
                if (tree.Find(folder) is { } empty && tree.Children(empty).Count == 0 && folder.Name is "Scripts")
                    tree.Remove(empty);
            }
            return;
        }
        var text = new StringBuilder();
        if (!foreign && _parts.TrueForAll(p => p.Name is not null || p.Lines.TrueForAll(l => l.Length == 0)))
            text.Append("@echo off\r\n");
        foreach (var (name, lines) in _parts)
        {
            if (name is not null)
                text.Append(Begin).Append(name).Append("\r\n");
            foreach (var line in name is null ? lines.AsEnumerable().Reverse().SkipWhile(l => l.Length == 0).Reverse() : lines)
                text.Append(line).Append("\r\n");
            if (name is not null)
                text.Append(End).Append(name).Append("\r\n");
        }
        var bytes = Encoding.UTF8.GetBytes(text.ToString());
        tree.PutFile(path, new NewContent(bytes, null, bytes.Length));
    }
}
