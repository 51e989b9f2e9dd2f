"""Makes the folders of the sample workshop's people: python3 people.py DIR"""
import gzip, math, os, random, struct, sys, zlib

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

# What starts LR-210: made up, and whole as far as it can be looked at; nothing of it runs.
made_up = random.Random(210)
root_id, swap_id, version = "0210fe44-0000-4000-8000-000000000210", "0210fe44-0000-4000-8000-000000000211", "6.1.0-tide"


def program(name, body):
    head = bytearray(0x400)
    head[:2], head[0x3C:0x40], head[0x80:0x84] = b"MZ", struct.pack("<I", 0x80), b"PE\0\0"
    struct.pack_into("<HH", head, 0x84, 0x8664, 1)
    struct.pack_into("<H", head, 0x94, 240)
    struct.pack_into("<H", head, 0x98, 0x20B)
    struct.pack_into("<H", head, 0x98 + 68, 10)
    struct.pack_into("<8sIIII", head, 0x98 + 240, name, len(body), 0x1000, len(body), 0x400)
    return bytes(head) + body


def part(kind, data):
    data += bytes(-len(data) % 8)
    return struct.pack("<II", kind, 8 + len(data)) + data


def newc(files):
    out = b""
    for number, (name, data) in enumerate([*files, ("TRAILER!!!", b"")]):
        fields = [number, 0o100644 if name.endswith(".ko") else 0o100755, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name) + 1, 0]
        out += b"070701" + b"".join(b"%08x" % field for field in fields) + name.encode() + b"\0"
        out += bytes(-len(out) % 4) + data
        out += bytes(-len(out) % 4)
    return out


parts = part(0, made_up.randbytes(24_000)) + part(3, b"/EFI/BOOT\0")
put("ferry-efi/EFI/BOOT/BOOTX64.EFI", program(b"mods", struct.pack("<4sIQQ", b"mimg", 0, 24, 24 + len(parts)) + parts))
put("ferry-efi/EFI/BOOT/grub.cfg", f"search --no-floppy --fs-uuid --set=root {root_id}\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n")
put("ferry/boot/grub/grub.cfg", f"""set default=0
set timeout=5
menuentry 'Ferry office' {{
 search --no-floppy --fs-uuid --set=root {root_id}
 linux /boot/vmlinuz-{version} root=UUID={root_id} ro quiet
 initrd /boot/initrd.img-{version}
}}
""")
put("ferry/etc/fstab", f"UUID={root_id} / ext4 defaults 0 1\nUUID=2100-0001 /boot/efi vfat umask=0077 0 1\nUUID={swap_id} none swap sw 0 0\n")
put("ferry/etc/os-release", 'NAME="Tide"\nID=tide\n')
kernel = bytearray(made_up.randbytes(5 * 512 + 96_000))
kernel[0x1F1] = 4
kernel[0x1F4:0x1F8] = struct.pack("<I", 96_000 // 16)
kernel[0x1FE:0x200], kernel[0x202:0x206], kernel[0x20E:0x210] = b"\x55\xaa", b"HdrS", struct.pack("<H", 0x300 - 0x200)
kernel[0x300 : 0x300 + 40] = f"{version} (sample workshop)".encode().ljust(40, b"\0")
kernel[0x206:0x208] = struct.pack("<H", 0x20C)  # the protocol, and that it runs 64 bits
kernel[0x236:0x238] = struct.pack("<H", 1)
kernel[-4:] = struct.pack("<I", zlib.crc32(kernel[:-4]) ^ 0xFFFFFFFF)  # over all of it this gives zero
put(f"ferry/boot/vmlinuz-{version}", bytes(kernel))
put(f"ferry/lib/modules/{version}/modules.builtin", "kernel/lib/crc32c.ko\nkernel/fs/ext4/ext4.ko\n")


def runs(size):
    head = struct.pack("<16sHHIQQQIHHHHHH", b"\x7fELF\2\1\1", 2, 62, 1, 0x400078, 64, 0, 0, 64, 56, 1, 64, 0, 0)
    body = made_up.randbytes(size)
    return head + struct.pack("<IIQQQQQQ", 1, 5, 0, 0x400000, 0x400000, 120 + size, 120 + size, 0x1000) + body


def module():
    info = f"vermagic={version} SMP\0".encode().ljust(64, b"\0")
    body = made_up.randbytes(600)
    head = struct.pack("<16sHHIQQQIHHHHHH", b"\x7fELF\2\1\1", 1, 62, 1, 0, 0, 64 + 64 + 600 + 8 - (64 + 64 + 600) % 8, 0, 64, 0, 0, 64, 2, 0)
    data = head + info + body
    data += bytes(8 - len(data) % 8)
    return data + bytes(64) + struct.pack("<IIQQQQIIQQ", 0, 1, 0, 0, 64, len(info), 0, 0, 1, 0)


for name in ["usr/lib/systemd/systemd", "usr/bin/sh"]:
    put(f"ferry/{name}", runs(4000))
    os.chmod(os.path.join(root, "ferry", name), 0o755)
put("ferry/usr/lib/systemd/system/default.target", "[Unit]\nDescription=Ferry office\n")
for link, to in [("sbin/init", "../usr/lib/systemd/systemd"), ("bin/sh", "../usr/bin/sh")]:
    path = os.path.join(root, "ferry", link)
    os.makedirs(os.path.dirname(path), exist_ok=True)
    os.symlink(to, path)
modules = f"lib/modules/{version}/kernel/drivers"
names = ["ata/ahci.ko", "nvme/host/nvme.ko", "scsi/sd_mod.ko", "usb/host/xhci-pci.ko", "usb/storage/usb-storage.ko"]
drivers = [(f"{modules}/{name}", module()) for name in names]
put(f"ferry/boot/initrd.img-{version}", gzip.compress(newc([("init", b"#!/bin/sh\n"), ("bin/sh", runs(4000)), *drivers]), mtime=0))
