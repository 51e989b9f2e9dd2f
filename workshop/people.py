"""Makes the folders of the sample workshop's people: python3 people.py DIR"""
import math, os, random, struct, sys, zlib

root = sys.argv[1]
random.seed(207)


def put(path, data):
    path = os.path.join(root, path)
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "wb") as f:
        f.write(data if isinstance(data, bytes) else data.encode())


def counts(year, month):
    rows = ["day,hour,species,up,down,water_cm,observer"]
    for day in range(1, 29):
        for hour in (5, 11, 17, 23):
            kind = random.choice(["trout", "grayling", "eel", "salmon", "lamprey"])
            rows.append(f"{year}-{month:02}-{day:02},{hour},{kind},{random.randrange(40)},{random.randrange(9)},{60 + random.randrange(80)},Wenna Carrow")
    return "\n".join(rows) + "\n"


def wave(seconds, tone):
    rate = 8000
    samples = b"".join(struct.pack("<h", int(9000 * math.sin(i * tone * 2 * math.pi / rate) * math.exp(-(i % rate) / rate))) for i in range(int(rate * seconds)))
    return b"RIFF" + struct.pack("<I", 36 + len(samples)) + b"WAVEfmt " + struct.pack("<IHHIIHH", 16, 1, 1, rate, rate * 2, 2, 16) + b"data" + struct.pack("<I", len(samples)) + samples


def png(width, height, shade):
    rows = b"".join(b"\0" + bytes(v for x in range(width) for v in shade(x, y)) for y in range(height))
    chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)) + chunk(b"IDAT", zlib.compress(rows, 9)) + chunk(b"IEND", b"")


def cover(title, hue):
    return f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 200 300"><rect width="200" height="300" fill="{hue}"/><text x="20" y="60" font-size="18">{title}</text></svg>\n'


# LR-207: the fish-count station
for year in (2024, 2025, 2026):
    for month in range(1, 13):
        put(f"station/Users/station/Counts/{year}/count-{year}-{month:02}.csv", counts(year, month))
for week in range(1, 53):
    put(f"station/Users/station/Logs/lock-{week:02}.log", "".join(f"{d} {h:02}:00 gate {random.choice(['open', 'shut'])} level {random.randrange(90, 240)} cm\n" for d in range(7) for h in range(24)))
put("station/Users/Wenna Carrow/Documents/rota.csv", "week,name\n" + "".join(f"{w},{random.choice(['Wenna Carrow', 'Piers Ambleside', 'Oda Fennimore'])}\n" for w in range(1, 53)))
put("station/Users/Wenna Carrow/Pictures/weir.png", png(240, 160, lambda x, y: (40 + x // 4, 80 + y // 3, 120 + (x ^ y) % 60)))
put("asleep/hiberfil.sys", b"HIBR" + bytes(4092))  # fast start is on: the system only slept
put("efi/EFI/BOOT/readme.txt", "The sample workshop's start-up files are made up and start nothing.\n")

# LR-208: Mossgate Bookbinders
for n, title in enumerate(["Tides of Penhallow", "The Lock-keeper's Year", "Eels and Elvers", "A Ferry Almanac", "Twelve Rounds for Evening"]):
    put(f"bookbinders/Users/Piers Ambleside/Covers/cover-{n}.svg", cover(title, ["#c9b28f", "#8fa3b5", "#97a77c", "#b5838f", "#a89a6f"][n]))
    put(f"bookbinders/Users/Piers Ambleside/Covers/cover-{n}.png", png(180, 270, lambda x, y, n=n: (90 + n * 20, 60 + y // 4, 40 + x // 3)))
    put(f"papers/orders/order-{n}.txt", f"{title}: {random.randrange(20, 300)} copies, half linen\n" * 40)

# LR-209: Penhallow choir archive
for n in range(12):
    put(f"choir/Recordings/rehearsal-2019-{n + 1:02}.wav", wave(8, 220 + n * 20))
    put(f"choir/Scores/round-{n + 1:02}.txt", "\n".join(" ".join(random.choice("cdefgab") for _ in range(16)) for _ in range(64)) + "\n")

# LR-210: Tidewater ferry office
for name in ("wenna", "oda"):
    put(f"ferry/home/{name}/Documents/tides-2026.csv", "day,high,low\n" + "".join(f"{d},{300 + random.randrange(90)},{40 + random.randrange(60)}\n" for d in range(1, 366)))
    put(f"ferry/home/{name}/.mailbox", "".join(f"From office@tidewater.example\nSubject: sailing {n}\n\nThe {n}th sailing leaves on time.\n\n" for n in range(200)))
put("ferry/etc/hostname", "ferry-office\n")

# LR-211: the lock-keeper
for day in range(1, 29):
    put(f"keeper/Documents/lock-log/day-{day:02}.txt", f"{random.randrange(2, 30)} boats up, {random.randrange(2, 30)} down; water {random.randrange(90, 240)} cm\n" * 12)
put("keeper/Documents/flood-claims.csv", "room,thing,worth\n" + "".join(f"{room},{thing},{random.randrange(5, 400)}\n" for room in ("kitchen", "office", "boat house") for thing in ("shelf", "stove", "chair", "chart")))
for n in range(6):
    put(f"keeper/Pictures/flood-{n + 1}.png", png(200, 140, lambda x, y, n=n: (60 + y // 2, 70 + (x * (n + 1)) % 50, 90 + y)))
