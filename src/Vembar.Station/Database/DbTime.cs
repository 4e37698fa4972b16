using System.Data.Common;
using System.Globalization;

namespace Vembar.Station.Database;

/// <summary>Times as texts that sort as the times do, in every database alike.</summary>
public static class DbTime
{
    /// <summary>A time, UTC, to milliseconds.</summary>
    public static string Of(DateTime utc) => utc.ToString("yyyy-MM-ddTHH:mm:ss.fffZ", CultureInfo.InvariantCulture);

    /// <summary>The time of a text.</summary>
    public static DateTime Parse(string text) => DateTime.Parse(text, CultureInfo.InvariantCulture,
        DateTimeStyles.AdjustToUniversal | DateTimeStyles.AssumeUniversal);

    extension(DbDataReader row)
    {
        /// <summary>A text; null where there is none.</summary>
        public string? TextAt(int column) => row.IsDBNull(column) ? null : row.GetString(column);

        /// <summary>A time; null where there is none.</summary>
        public DateTime? TimeAt(int column) => row.IsDBNull(column) ? null : Parse(row.GetString(column));
    }
}
