//! Sound Linux disks laid out as distributions and people do it, made by the system's own tools around a real Debian: nothing on them is called
//! broken, and what starts is found.

use crate::breakages::{each, made};
use crate::support::{Place, path, started, system_disk, text, tool};
use std::fs;
use std::sync::Mutex;

/// What the scripts have at hand. A tree of the system is made by `tree`, its parts go onto the disk by `table`, `ext`, `esp`; identifiers are
/// `U1` and so on for partitions by their numbers.
const TOOLS: &str = r#"
set -euo pipefail
id() { echo 00000000-0000-4000-8000-00000000000$1; }
U1=$(id 1) U2=$(id 2) U3=$(id 3) U4=$(id 4) U5=$(id 5)
E=ABCD-0001 EFI=C12A7328-F81F-11D2-BA4B-00A0C93EC93B
off=$(sfdisk -d "$BASE" | awk -F'[=,]' '$1 ~ "img3 " {print $2*512}')
mkdir b
mount -o "ro,loop,offset=$off" "$BASE" b
trap 'umount b' EXIT
V=$(basename b/boot/vmlinuz-*); V=${V#vmlinuz-} K=vmlinuz-$V R=initrd.img-$V
tree() { cp -a b t; rm -rf t/boot/grub; mkdir -p t/boot/grub t/boot/efi; : > t/etc/fstab; }
fstab() { printf '%s\n' "$1" >> t/etc/fstab; }
table() { truncate -s 900M "$IMG"; printf "label: gpt\n$1\n" | sfdisk -q "$IMG"; }
at() { sfdisk -d "$IMG" | awk -F'[=,]' -v n="$1" '$1 ~ "img"n" " {print $2*512}'; }
len() { sfdisk -d "$IMG" | awk -F'[=,]' -v n="$1" '$1 ~ "img"n" " {print $4/2}'; }
ext() { mke2fs -q -F -t ext4 -U "$(id $1)" -L "${3-}" -E offset=$(at $1) -d "$2" "$IMG" "$(len $1)k"; }
esp() { mkfs.fat -F 32 -s 1 -i ${3-ABCD0001} --offset $(($(at $1)/512)) "$IMG" $(len $1) > /dev/null; (cd $2; mcopy -s -i "$IMG@@$(at $1)" * ::/); }
grub() { grub-mkimage -O x86_64-efi -p "$2" ${3+-c "$3"} -o "$1" part_gpt fat ext2 btrfs xfs search search_fs_uuid configfile normal linux echo test; }
signed() { mkdir -p e/EFI/debian e/EFI/BOOT; cp /usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed e/EFI/debian/grubx64.efi; cp /usr/lib/shim/shimx64.efi e/EFI/debian/; cp /usr/lib/shim/shimx64.efi e/EFI/BOOT/BOOTX64.EFI; cp /usr/lib/shim/fbx64.efi e/EFI/BOOT/; cp /usr/lib/shim/BOOTX64.CSV e/EFI/debian/; printf 'set timeout=1\nsearch.fs_uuid %s root hd0,gpt2\nset prefix=($root)'"'%s'"'\nconfigfile $prefix/grub.cfg\n' "$1" "$2" > e/EFI/debian/grub.cfg; }
# As grub-mkconfig writes it: the volume, the folder of the kernel there, the root.
menu() { cat <<G
if [ -s \$prefix/grubenv ]; then
  set have_grubenv=true
  load_env
fi
if [ "\${next_entry}" ] ; then
   set default="\${next_entry}"
   set next_entry=
   save_env next_entry
   set boot_once=true
else
   set default="${4-0}"
fi
if [ x"\${feature_menuentry_id}" = xy ]; then
  menuentry_id_option="--id"
else
  menuentry_id_option=""
fi
export menuentry_id_option
if [ "\${prev_saved_entry}" ]; then
  set saved_entry="\${prev_saved_entry}"
  save_env saved_entry
fi
function load_video {
  if [ x\$feature_all_video_module = xy ]; then
    insmod all_video
  else
    insmod efi_gop
  fi
}
if [ x\$feature_default_font_path = xy ] ; then
   font=unicode
else
insmod part_gpt
set root='hd0,gpt2'
if [ x\$feature_platform_search_hint = xy ]; then
  search --no-floppy --fs-uuid --set=root --hint-bios=hd0,gpt2 --hint-efi=hd0,gpt2 --hint-baremetal=ahci0,gpt2  $1
else
  search --no-floppy --fs-uuid --set=root $1
fi
    font="/usr/share/grub/unicode.pf2"
fi
if loadfont \$font ; then
  set gfxmode=auto
fi
### BEGIN /etc/grub.d/10_linux ###
menuentry 'Debian GNU/Linux' --class debian --class gnu-linux --class os \$menuentry_id_option 'gnulinux-simple-$1' {
	load_video
	insmod gzio
	if [ x\$grub_platform = xxen ]; then insmod xzio; insmod lzopio; fi
	insmod part_gpt
	insmod ext2
	set root='hd0,gpt2'
	if [ x\$feature_platform_search_hint = xy ]; then
	  search --no-floppy --fs-uuid --set=root --hint-bios=hd0,gpt2 --hint-efi=hd0,gpt2 --hint-baremetal=ahci0,gpt2  $1
	else
	  search --no-floppy --fs-uuid --set=root $1
	fi
	echo	'Loading Linux $V ...'
	linux	$2/$K root=$3 ro  quiet
	echo	'Loading initial ramdisk ...'
	initrd	$2/$R
}
submenu 'Advanced options for Debian GNU/Linux' \$menuentry_id_option 'gnulinux-advanced-$1' {
	menuentry 'Debian GNU/Linux, with Linux $V' --class debian \$menuentry_id_option 'gnulinux-$V-advanced-$1' {
		search --no-floppy --fs-uuid --set=root $1
		linux	$2/$K root=$3 ro  quiet
		initrd	$2/$R
	}
	menuentry 'Debian GNU/Linux, with Linux 5.0 (gone)' --class debian \$menuentry_id_option 'gnulinux-5.0-advanced-$1' {
		linux	$2/vmlinuz-5.0 root=$3 ro
	}
}
### BEGIN /etc/grub.d/30_os-prober ###
menuentry 'Windows Boot Manager (on /dev/sdb1)' --class windows --class os \$menuentry_id_option 'osprober-efi-7777-7777' {
	insmod part_gpt
	insmod fat
	search --no-floppy --fs-uuid --set=root 7777-7777
	chainloader /EFI/Microsoft/Boot/bootmgfw.efi
}
menuentry 'Other (on /dev/sdb2)' --class gnu-linux --class os \$menuentry_id_option 'osprober-gnulinux-simple-77777777-1111-2222-3333-444444444444' {
	search --no-floppy --fs-uuid --set=root 77777777-1111-2222-3333-444444444444
	linux /boot/vmlinuz root=UUID=77777777-1111-2222-3333-444444444444
}
menuentry 'UEFI Firmware Settings' \$menuentry_id_option 'uefi-firmware' {
	fwsetup --is-supported
	fwsetup
}
if [ -f  \${config_directory}/custom.cfg ]; then
  source \${config_directory}/custom.cfg
elif [ -z "\${config_directory}" -a -f  \$prefix/custom.cfg ]; then
  source \$prefix/custom.cfg
fi
G
}
two="start=2048,size=131072,type=$EFI\n"
boot() { mkdir -p e/EFI/systemd e/EFI/BOOT e/loader/entries; cp /usr/lib/systemd/boot/efi/systemd-bootx64.efi e/EFI/systemd/; cp /usr/lib/systemd/boot/efi/systemd-bootx64.efi e/EFI/BOOT/BOOTX64.EFI; }
entry() { mkdir -p $1/loader/entries; printf "title $3\nversion $4\nlinux $5\ninitrd $6\noptions $7\n" > $1/loader/entries/$2; }
# A unified kernel image, as the documents of systemd put it together.
image() { local s=/usr/lib/systemd/boot/efi/linuxx64.efi.stub a=$((0x$(objdump -h /usr/lib/systemd/boot/efi/linuxx64.efi.stub | awk 'NF==7 {s=$3; a=$4} END {print a}') + 0x100000)); printf '%s\0' "$2" > cmdline; objcopy --add-section .osrel=b/usr/lib/os-release --change-section-vma .osrel=$a --add-section .cmdline=cmdline --change-section-vma .cmdline=$((a+0x10000)) --add-section .initrd=b/boot/$R --change-section-vma .initrd=$((a+0x100000)) --add-section .linux=b/boot/$K --change-section-vma .linux=$((a+0x3000000)) $s $1; }
simple() { fstab "UUID=$U2 / ext4 errors=remount-ro 0 1"; fstab "UUID=$E /boot/efi vfat umask=0077 0 1"; }
"#;

/// A layout, the link that does not hold (empty: all do; with `?`: not looked into), and how it is made.
const LAYOUTS: &[(&str, &str, &str)] = &[
    (
        "Debian, signed",
        "",
        r#"tree; simple; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "Debian, a default that was saved",
        "",
        r#"tree; simple; menu $U2 /boot UUID=$U2 '${saved_entry}' > t/boot/grub/grub.cfg; grub-editenv t/boot/grub/grubenv create; grub-editenv t/boot/grub/grubenv set saved_entry="gnulinux-advanced-$U2>gnulinux-$V-advanced-$U2"; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "Debian, a default by numbers",
        "",
        r#"tree; simple; menu $U2 /boot UUID=$U2 '1>0' > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "Debian, a default by titles",
        "",
        r#"tree; simple; menu $U2 /boot UUID=$U2 "Advanced options for Debian GNU/Linux>Debian GNU/Linux, with Linux $V" > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "Debian, an own entry in custom.cfg",
        "",
        r#"tree; simple; menu $U2 /boot UUID=$U2 mine > t/boot/grub/grub.cfg; printf "menuentry Mine --id mine { search --fs-uuid --set=root $U2; linux /boot/$K root=UUID=$U2 ro; initrd /boot/$R; }\n" > t/boot/grub/custom.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "GRUB without shim, of any name",
        "",
        r#"tree; simple; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; table "${two}type=L"; mkdir -p e/EFI/workshop e/EFI/BOOT; printf "set timeout=1\nsearch.fs_uuid $U2 root hd0,gpt2\nset prefix=(\$root)/boot/grub\n" > c; grub e/EFI/workshop/loader.efi /boot/grub c; cp e/EFI/workshop/loader.efi e/EFI/BOOT/BOOTX64.EFI; esp 1 e; ext 2 t"#,
    ),
    (
        "a volume for /boot",
        "",
        r#"tree; simple; fstab "UUID=$U3 /boot ext4 defaults 0 2"; menu $U3 "" UUID=$U2 > t/boot/grub/grub.cfg; mv t/boot o; mkdir t/boot; table "${two}size=1200000,type=L\ntype=L"; signed $U3 /grub; esp 1 e; ext 2 t; ext 3 o"#,
    ),
    (
        "a volume for /usr",
        "",
        r#"tree; simple; fstab "UUID=$U3 /usr ext4 defaults 0 2"; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; mv t/usr o; mkdir t/usr; table "${two}size=600000,type=L\ntype=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t; ext 3 o"#,
    ),
    (
        "volumes for /var, /home and swap",
        "",
        r#"tree; simple; fstab "UUID=$U3 /var ext4 defaults 0 2"; fstab "LABEL=People\040here /home ext4 defaults 0 2"; fstab "UUID=$U5 none swap sw 0 0"; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; mv t/var o; mkdir t/var h; table "${two}size=1000000,type=L\nsize=300000,type=L\nsize=100000,type=L\ntype=S"; signed $U2 /boot/grub; esp 1 e; ext 2 t; ext 3 o; ext 4 h 'People here'; truncate -s $(len 5)K s; mkswap -q -U $U5 s; dd if=s of="$IMG" bs=1M seek=$(($(at 5)/1048576)) conv=notrunc,sparse status=none"#,
    ),
    (
        "what does not block a start",
        "",
        r#"tree; simple; fstab "UUID=77777777-1111-2222-3333-444444444444 /srv ext4 noauto,x-systemd.automount 0 0"; fstab "LABEL=stick /media/stick auto nofail 0 0"; fstab "//server/share /mnt cifs guest 0 0"; fstab "tmpfs /tmp tmpfs size=1G 0 0"; fstab "/swapfile none swap sw 0 0"; fstab "/home/a /home/b none bind 0 0"; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "by labels with spaces",
        "",
        r#"tree; fstab "LABEL=The\040system / ext4 defaults 0 1"; fstab "UUID=$E /boot/efi vfat defaults 0 1"; menu $U2 /boot '/dev/disk/by-label/The\\x20system' > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t 'The system'"#,
    ),
    (
        "by PARTUUID",
        "",
        r#"tree; P=77777777-aaaa-bbbb-cccc-444444444444; fstab "PARTUUID=$P / ext4 defaults 0 1"; fstab "UUID=$E /boot/efi vfat defaults 0 1"; menu $U2 /boot PARTUUID=$P > t/boot/grub/grub.cfg; table "${two}type=L,uuid=$P"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "locked root, opened by its UUID",
        "?root",
        r#"tree; mkdir o; cp -a t/boot/. o; menu $U2 "" UUID=88888888-1111-2222-3333-444444444444 > o/grub/grub.cfg; table "${two}size=400000,type=L\ntype=L"; signed $U2 /grub; esp 1 e; ext 2 o; echo -n key > k; dd if=/dev/urandom of=l bs=1M count=30 status=none; cryptsetup luksFormat -q --type luks2 --pbkdf pbkdf2 --pbkdf-force-iterations 1000 l k; dd if=l of="$IMG" bs=512 seek=$(($(at 3)/512)) conv=notrunc status=none"#,
    ),
    (
        "locked root, by its mapping",
        "?root",
        r#"tree; mkdir o; cp -a t/boot/. o; menu $U2 "" /dev/mapper/luks-root > o/grub/grub.cfg; table "${two}size=400000,type=L\ntype=L"; signed $U2 /grub; esp 1 e; ext 2 o; echo -n key > k; dd if=/dev/urandom of=l bs=1M count=30 status=none; cryptsetup luksFormat -q --type luks1 --pbkdf pbkdf2 --pbkdf-force-iterations 1000 l k; dd if=l of="$IMG" bs=512 seek=$(($(at 3)/512)) conv=notrunc status=none"#,
    ),
    (
        "data in a locked volume",
        "?mounts",
        r#"tree; simple; fstab "/dev/mapper/data /srv ext4 defaults 0 2"; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; echo -n key > k; dd if=/dev/urandom of=l bs=1M count=20 status=none; cryptsetup luksFormat -q --uuid $U3 --pbkdf pbkdf2 --pbkdf-force-iterations 1000 l k; echo "data UUID=$U3 none luks" > t/etc/crypttab; table "${two}size=1500000,type=L\ntype=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t; dd if=l of="$IMG" bs=512 seek=$(($(at 3)/512)) conv=notrunc status=none"#,
    ),
    (
        "systemd-boot, entries on the system partition",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; fstab "UUID=$E /boot vfat umask=0077 0 2"; boot; cp t/boot/$K t/boot/$R e/; entry e debian.conf Debian $V /$K /$R "root=UUID=$U2 rw"; entry e old.conf Old 5.0 /vmlinuz-5.0 /initrd-5.0 "root=UUID=$U2"; printf 'default debian.conf\ntimeout 3\n' > e/loader/loader.conf; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "systemd-boot, a default without its ending",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; boot; cp t/boot/$K t/boot/$R e/; entry e debian.conf Debian $V /$K /$R "root=UUID=$U2 rw"; entry e zzz.conf Old 99 /vmlinuz-5.0 /initrd-5.0 "root=UUID=$U2"; printf 'default  debian\n' > e/loader/loader.conf; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "systemd-boot, a default that is a pattern",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; boot; cp t/boot/$K t/boot/$R e/; entry e debian-$V.conf Debian $V /$K /$R "root=UUID=$U2 rw"; entry e zzz.conf Old 99 /vmlinuz-5.0 /initrd-5.0 "root=UUID=$U2"; echo 'default debian-*' > e/loader/loader.conf; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "systemd-boot, the newest of one key",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; boot; cp t/boot/$K t/boot/$R e/; entry e a.conf Debian $V /$K /$R "root=UUID=$U2 rw"; entry e b.conf Old 5.10.0-9 /vmlinuz-5.0 /initrd-5.0 "root=UUID=$U2"; for f in a b; do echo 'sort-key debian' >> e/loader/entries/$f.conf; done; entry e zz.conf Other 99 /none /none root=x; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "systemd-boot, attempts that failed",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; boot; cp t/boot/$K t/boot/$R e/; entry e a+3.conf Debian 1 /$K /$R "root=UUID=$U2 rw"; entry e b+0-3.conf New 9 /vmlinuz-9 /initrd-9 "root=UUID=$U2"; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "systemd-boot, an extended boot partition",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; boot; rmdir e/loader/entries; mkdir x; cp t/boot/$K t/boot/$R x/; entry x debian.conf Debian $V /$K /$R "root=UUID=$U2 rw"; table "${two}size=1200000,type=L\ntype=bc13c2ff-59e6-4262-a352-b275fd6f7172"; esp 1 e; ext 2 t; esp 3 x ABCD0003"#,
    ),
    (
        "systemd-boot, a unified image",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; boot; mkdir -p e/EFI/Linux; image e/EFI/Linux/debian-$V.efi "root=UUID=$U2 rw quiet"; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "systemd-boot, an entry that names an image",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; boot; mkdir -p e/images; image e/images/debian.efi "root=UUID=$U2 rw"; printf 'title Debian\nefi /images/debian.efi\n' > e/loader/entries/d.conf; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "systemd-boot, an entry that names the loader itself",
        "?stub",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; boot; printf 'title Again\nefi /EFI/systemd/systemd-bootx64.efi\n' > e/loader/entries/a.conf; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "systemd-boot behind shim",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; boot; cp e/EFI/BOOT/BOOTX64.EFI e/EFI/BOOT/grubx64.efi; cp /usr/lib/shim/shimx64.efi e/EFI/BOOT/BOOTX64.EFI; cp t/boot/$K t/boot/$R e/; entry e d.conf Debian $V /$K /$R "root=UUID=$U2 rw"; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "a unified image that firmware starts",
        "",
        r#"tree; fstab "UUID=$U2 / ext4 defaults 0 1"; mkdir -p e/EFI/BOOT; image e/EFI/BOOT/BOOTX64.EFI "root=UUID=$U2 rw"; table "${two}type=L"; esp 1 e; ext 2 t"#,
    ),
    (
        "the root by the type of its partition",
        "",
        r#"tree; : > t/etc/fstab; boot; cp t/boot/$K t/boot/$R e/; entry e d.conf Debian $V /$K /$R "rw quiet"; table "${two}type=4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709"; esp 1 e; ext 2 t"#,
    ),
    (
        "Fedora's way",
        "",
        r#"tree; fstab "UUID=$U3 / ext4 defaults 0 1"; fstab "UUID=$U2 /boot ext4 defaults 1 2"; fstab "UUID=$E /boot/efi vfat umask=0077 0 2"; mv t/boot o; mkdir t/boot; mkdir o/grub2; rm -r o/grub; I=aaaa1111; for e in $I-$V "$I-0-rescue"; do entry o $e.conf "Linux ($e)" $V /$K /$R 'root=UUID='$U3' ro $tuned_params'; done; sed -i s,$K,vmlinuz-rescue, "o/loader/entries/$I-0-rescue.conf"; grub-editenv o/grub2/grubenv create; grub-editenv o/grub2/grubenv set saved_entry=$I-$V boot_success=1; cat > o/grub2/grub.cfg <<G
set pager=1
if [ -f \${config_directory}/grubenv ]; then
  load_env -f \${config_directory}/grubenv
elif [ -s \$prefix/grubenv ]; then
  load_env
fi
if [ "\${next_entry}" ] ; then
   set default="\${next_entry}"
else
   set default="\${saved_entry}"
fi
insmod part_gpt
insmod ext2
search --no-floppy --fs-uuid --set=root --hint-bios=hd0,gpt2 $U2
insmod increment
if [ -n "\${boot_counter}" -a "\${boot_success}" = "0" ]; then
  increment boot_counter
fi
insmod blscfg
blscfg
if [ "\${boot_success}" = "1" -o "\${boot_indeterminate}" = "1" ]; then
  set last_boot_ok=1
fi
menuentry 'UEFI Firmware Settings' \$menuentry_id_option 'uefi-firmware' {
	fwsetup
}
G
table "${two}size=200000,type=L\ntype=L"; signed $U2 /grub2; mv e/EFI/debian e/EFI/fedora; printf 'set timeout=1\nsearch --no-floppy --root-dev-only --fs-uuid --set=dev %s\nset prefix=($dev)/grub2\nexport $prefix\nconfigfile $prefix/grub.cfg\n' $U2 > e/EFI/fedora/grub.cfg; grub e/EFI/fedora/grubx64.efi /EFI/fedora; esp 1 e; ext 2 o; ext 3 t"#,
    ),
    (
        "a vendor of any name, a short stub",
        "",
        r#"tree; simple; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; mkdir e/EFI/workshop; mv e/EFI/debian/* e/EFI/workshop/; rmdir e/EFI/debian; grub e/EFI/workshop/grubx64.efi /EFI/workshop; esp 1 e; ext 2 t"#,
    ),
    (
        "a rescue partition in front",
        "",
        r#"tree; fstab "UUID=$U3 / ext4 defaults 0 1"; fstab "UUID=$E /boot/efi vfat umask=0077 0 1"; menu $U3 /boot UUID=$U3 > t/boot/grub/grub.cfg; table "size=80000,type=$EFI\nsize=131072,type=$EFI\ntype=L"; mkdir -p r/EFI/BOOT; cp /usr/lib/systemd/boot/efi/linuxx64.efi.stub r/EFI/BOOT/BOOTX64.EFI; signed $U3 /boot/grub; esp 1 r 77770001; esp 2 e; ext 3 t"#,
    ),
    (
        "an empty partition beside",
        "",
        r#"tree; simple; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; mkdir n; touch n/note; table "${two}size=1500000,type=L\nsize=80000,type=$EFI"; signed $U2 /boot/grub; esp 1 e; esp 3 n 77770003; ext 2 t"#,
    ),
    (
        "microcode in front of the archive",
        "",
        r#"tree; simple; mkdir -p m/kernel/x86/microcode; head -c 5000 /dev/urandom > m/kernel/x86/microcode/a.bin; (cd m; find . | cpio -o -H newc --quiet > ../u); cat u t/boot/$R > c; cp c t/boot/$R; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "an archive packed with gzip",
        "",
        r#"tree; simple; zstd -dcq t/boot/$R | gzip -1 > c; cp c t/boot/$R; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "an archive packed with xz",
        "",
        r#"tree; simple; zstd -dcq t/boot/$R | xz -0 --check=crc32 > c; cp c t/boot/$R; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "modules that are packed",
        "",
        r#"tree; simple; mkdir u; (cd u; zstd -dcq ../t/boot/$R | cpio -idm --quiet; find . -name '*.ko' -exec xz -0 --check=crc32 {} +; find . | cpio -o -H newc --quiet | zstd -q -1 > ../c); cp c t/boot/$R; menu $U2 /boot UUID=$U2 > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "links /vmlinuz and /initrd.img",
        "",
        r#"tree; simple; ln -sf boot/$K t/vmlinuz; ln -sf boot/$R t/initrd.img; cat > t/boot/grub/grub.cfg <<G
menuentry Linux { search --fs-uuid --set=root $U2; linux /vmlinuz root=UUID=$U2; initrd /initrd.img; }
G
table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "a kernel loaded without a menu",
        "",
        r#"tree; simple; printf "search --fs-uuid --set=root $U2\nlinux /boot/$K root=UUID=$U2\ninitrd /boot/$R\nboot\n" > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
    (
        "a fallback for an entry that is gone",
        "?default-entry",
        r#"tree; simple; { printf 'set fallback=1\nset default=0\n'; printf "menuentry Gone { search --fs-uuid --set=root $U2; linux /boot/none root=UUID=$U2; }\n"; printf "menuentry Here { search --fs-uuid --set=root $U2; linux /boot/$K root=UUID=$U2; initrd /boot/$R; }\n"; } > t/boot/grub/grub.cfg; table "${two}type=L"; signed $U2 /boot/grub; esp 1 e; ext 2 t"#,
    ),
];

#[test]
fn nothing_sound_is_called_broken() {
    let place = Place::new();
    let base = system_disk(&place, "base.img", &["--size", "900M", "--table", "gpt", "--modules", "dep"]);
    each(&place, &base, TOOLS, LAYOUTS, |found, wanted| {
        let fails: Vec<&String> = found.iter().filter(|found| !found.starts_with('?')).collect();
        fails.is_empty() && (wanted.is_empty() && found.is_empty() || found.iter().any(|found| found == wanted))
    });
}

/// A clone with fresh identifiers knows what each was before: all that names the disk is set right, and entries of other disks stay.
#[test]
fn fresh_identifiers_are_written_where_the_old_ones_stood() {
    let place = Place::new();
    let base = system_disk(&place, "base.img", &["--size", "900M", "--table", "gpt", "--modules", "dep"]);
    let script = LAYOUTS.iter().find(|(name, ..)| *name == "by PARTUUID").unwrap().2;
    let dir = place.path("made");
    fs::create_dir(&dir).unwrap();
    let (disk, done) = made(&dir, &base, TOOLS, script);
    assert!(done.status.success(), "{}", text(&done.stderr));
    let target = place.path("target.img");
    let args = ["clone", path(&disk), path(&target), "--new-size", "1GiB", "--confirm", "rget", "--ids", "fresh", "--fit", "auto"];
    let (code, report) = place.json(&args);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    let told = place.json(&["check", path(&target)]).1;
    assert!(told["proof"].as_array().unwrap().iter().all(|line| line["what"] != "boot" || line["result"] == "holds"), "{told}");
    let found = tool(&["bash", "-c", &format!("grep -aoE 'search --no-floppy --fs-uuid --set=root 7777[-0-9]*' {} | sort -u", path(&target))]);
    assert_eq!(text(&found.stdout).lines().count(), 2, "those of other disks are as they were: {}", text(&found.stdout));
}

/// Sound is what starts: in a virtual machine, by the firmware's own way. One each time; all of them with `BADGER_STARTS=100`.
#[test]
fn sound_layouts_really_start() {
    let place = Place::new();
    let base = system_disk(&place, "base.img", &["--size", "900M", "--table", "gpt", "--modules", "dep"]);
    let most = std::env::var("BADGER_STARTS").ok().and_then(|most| most.parse().ok()).unwrap_or(1);
    // The quickest first.
    let first = ["systemd-boot, a unified image"];
    let mut sound: Vec<_> = LAYOUTS.iter().filter(|(_, link, _)| link.is_empty() || link.contains("default")).collect();
    sound.sort_by_key(|(name, ..)| !first.iter().any(|first| name.ends_with(first)));
    let (rest, dark) = (Mutex::new(sound.into_iter().take(most)), Mutex::new(Vec::new()));
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let Some((name, _, script)) = rest.lock().unwrap().next() else { return };
                    let dir = tempfile::tempdir_in(place.dir.path()).unwrap();
                    let (image, done) = made(dir.path(), &base, TOOLS, script);
                    assert!(done.status.success(), "{name}: {}", text(&done.stderr));
                    let (_, console) = started(&image, "uefi", "sata");
                    let is_up = console.contains("SYSTEM-READY");
                    eprintln!("{name}: {}", if is_up { "up" } else { "dark" });
                    if !is_up {
                        dark.lock()
                            .unwrap()
                            .push(format!("{name}: {}", console.chars().rev().take(600).collect::<String>().chars().rev().collect::<String>()));
                    }
                }
            });
        }
    });
    let dark = dark.into_inner().unwrap();
    assert!(dark.is_empty(), "{}", dark.join("\n"));
}
