// SPDX-License-Identifier: GPL-2.0-or-later
// For the guest of these checks alone: keeps processor registers for /dev/cpu/*/msr and intel_rapl_msr, since the
// emulator drops what is written. Registers are shared by all processors, as package registers are. While it runs,
//   echo 'WORD ...' > /sys/module/rig_registers/parameters/cmd
// changes it:
//   0x610=0x...    a register, behind everybody's back       gp=0x610      reads and writes fail (EIO)
//   ro=0x610       writes fail (EIO)                         silent=0x610  writes pass and change nothing
//   plain=0x610    as stored                                 tick=0x611    grows with time, rate= units a jiffy
//   mbox=ok|refuse|silent|dead|half|slow|off   how the voltage mailbox answers; code=7 the refusal's code
//   plane0=-51     a voltage plane, in 1/1024 V              reset=1       everything as at power-on, as after sleep
// What stands when "first=1" is written is what power-on gives. Reading the file gives registers with counts of reads
// and writes. Waking from sleep resets by itself.
#include <linux/module.h>
#include <linux/kprobes.h>
#include <linux/spinlock.h>
#include <linux/jiffies.h>
#include <linux/slab.h>
#include <linux/syscore_ops.h>

enum { PLAIN, GP, RO, SILENT, TICK };
enum { M_OFF, M_OK, M_REFUSE, M_SILENT, M_DEAD, M_HALF, M_SLOW };
#define MAILBOX 0x150
#define PACKAGE_LIMIT 0x610
#define CURRENT_LIMIT 0x601
#define WRITE_PLANE 0x11
#define SLOW_READS 20

static const char * const mailbox_words[] = { "off", "ok", "refuse", "silent", "dead", "half", "slow" };
static const char * const kind_words[] = { "plain", "gp", "ro", "silent", "tick" };

struct reg { u32 nr; u64 val, first; int kind; u32 reads, writes; };
static struct reg registers[96];
static int count;
static int mailbox = M_OFF, code = 7, slow_left, plane[8];
static unsigned long rate = 1000;
static DEFINE_RAW_SPINLOCK(lock);

static struct reg *find(u32 nr)
{
	int i;

	for (i = 0; i < count; i++)
		if (registers[i].nr == nr)
			return &registers[i];
	return NULL;
}

static struct reg *get(u32 nr)
{
	struct reg *r = find(nr);

	if (!r && count < ARRAY_SIZE(registers)) {
		r = &registers[count++];
		r->nr = nr;
	}
	return r;
}

static int read_register(u32 nr, u64 *v)
{
	struct reg *r = find(nr);

	if (!r)
		return 1;
	r->reads++;
	if (r->kind == GP)
		return -EIO;
	*v = r->val;
	if (nr == MAILBOX && mailbox == M_SLOW && slow_left > 0 && --slow_left > 0)
		*v |= 1ULL << 63;
	if (r->kind == TICK)
		*v = (u32)(*v + jiffies * rate);
	return 0;
}

static void answer(struct reg *r, u64 v)        // bit 63 run, 42:40 plane, 39:32 command, 31:21 offset
{
	int p = v >> 40 & 7, c = v >> 32 & 0xff, o = v >> 21 & 0x7ff;

	if (!(v >> 63) || mailbox == M_DEAD) {
		r->val = v;
		return;
	}
	if (mailbox == M_REFUSE && c == WRITE_PLANE) {
		r->val = (v & 0x00000700ffffffffULL) | (u64)code << 32;
		return;
	}
	if (c == WRITE_PLANE && mailbox != M_SILENT) {
		o = o & 0x400 ? o - 0x800 : o;
		plane[p] = mailbox == M_HALF ? o / 2 : o;
	}
	if (mailbox == M_SLOW)
		slow_left = SLOW_READS;
	r->val = (u64)p << 40 | (u64)(plane[p] & 0x7ff) << 21;
}

static int write_register(u32 nr, u64 v, u64 mask)
{
	struct reg *r = find(nr);
	unsigned long flags;

	if (!r)
		return 1;
	r->writes++;
	if (r->kind == GP || r->kind == RO || r->kind == TICK)
		return -EIO;
	if (r->kind == SILENT)
		return 0;
	if (nr == PACKAGE_LIMIT && r->val >> 63)        // locked: ignored, as the manual says
		return 0;
	if (nr == CURRENT_LIMIT && r->val >> 31 & 1)
		return 0;
	raw_spin_lock_irqsave(&lock, flags);
	if (nr == MAILBOX && mailbox != M_OFF)
		answer(r, v);
	else
		r->val = (r->val & ~mask) | (v & mask);
	raw_spin_unlock_irqrestore(&lock, flags);
	return 0;
}

static void power_on(void)
{
	int i;

	for (i = 0; i < count; i++)
		registers[i].val = registers[i].first;
	memset(plane, 0, sizeof(plane));
}

void rig_registers_ret(void);
asm(".text\n.globl rig_registers_ret\n.type rig_registers_ret,@function\nrig_registers_ret:\n\tret\n\tint3\n"
    ".size rig_registers_ret,.-rig_registers_ret\n");

static int finish(struct pt_regs *regs, int rc)
{
	if (rc == 1)
		return 0;                       // not ours: the real function runs
	regs->ax = (long)rc;
	regs->ip = (unsigned long)rig_registers_ret;
	return 1;
}

static int on_read(struct kprobe *p, struct pt_regs *regs)      // (cpu, nr, u32 *l, u32 *h)
{
	u64 v;
	int rc = read_register(regs->si, &v);

	if (!rc) {
		*(u32 *)regs->dx = v;
		*(u32 *)regs->cx = v >> 32;
	}
	return finish(regs, rc);
}

static int on_write(struct kprobe *p, struct pt_regs *regs)     // (cpu, nr, u32 l, u32 h)
{
	return finish(regs, write_register(regs->si, ((u64)(u32)regs->cx << 32) | (u32)regs->dx, ~0ULL));
}

static int on_read_long(struct kprobe *p, struct pt_regs *regs) // (cpu, nr, u64 *q)
{
	u64 v;
	int rc = read_register(regs->si, &v);

	if (!rc)
		*(u64 *)regs->dx = v;
	return finish(regs, rc);
}

struct reg_action { u64 reg; u64 mask; u64 value; int err; };   // as in include/linux/intel_rapl.h

static int on_limit(struct kprobe *p, struct pt_regs *regs)
{
	struct reg_action *ra = (void *)regs->di;
	int rc = write_register(ra->reg, ra->value, ra->mask);

	if (rc != 1)
		ra->err = rc;
	return finish(regs, rc);
}

static struct kprobe probes[] = {
	{ .symbol_name = "rdmsr_safe_on_cpu", .pre_handler = on_read },
	{ .symbol_name = "wrmsr_safe_on_cpu", .pre_handler = on_write },
	{ .symbol_name = "rdmsrl_safe_on_cpu", .pre_handler = on_read_long },
	{ .symbol_name = "rapl_msr_update_func", .pre_handler = on_limit },     // intel_rapl_msr has to be there first
};
static bool placed[ARRAY_SIZE(probes)];

static bool take_word(char *name, char *value)
{
	struct reg *r;
	int i, n;
	u32 nr;
	u64 v;

	if (!strcmp(name, "mbox")) {
		for (i = 0; i < ARRAY_SIZE(mailbox_words); i++)
			if (!strcmp(value, mailbox_words[i]))
				mailbox = i;
		return get(MAILBOX);
	}
	if (!strcmp(name, "code"))
		return !kstrtoint(value, 0, &code);
	if (!strcmp(name, "rate"))
		return !kstrtoul(value, 0, &rate);
	if (!strcmp(name, "first")) {
		for (i = 0; i < count; i++)
			registers[i].first = registers[i].val;
		return true;
	}
	if (!strcmp(name, "reset")) {
		power_on();
		return true;
	}
	if (!strncmp(name, "plane", 5)) {
		if (kstrtoint(value, 0, &n))
			return false;
		plane[(name[5] - '0') & 7] = n;
		return true;
	}
	for (i = 0; i < ARRAY_SIZE(kind_words); i++)
		if (!strcmp(name, kind_words[i])) {
			if (kstrtou32(value, 0, &nr) || !(r = get(nr)))
				return false;
			r->kind = i;
			return true;
		}
	if (kstrtou32(name, 0, &nr) || kstrtou64(value, 0, &v) || !(r = get(nr)))
		return false;
	r->val = v;
	return true;
}

static int cmd_set(const char *s, const struct kernel_param *k)
{
	char *whole = kstrdup(s, GFP_KERNEL), *rest = whole, *word, *value;
	int rc = 0;

	if (!whole)
		return -ENOMEM;
	while ((word = strsep(&rest, " ,\n"))) {
		value = strchr(word, '=');
		if (!value)
			continue;
		*value++ = 0;
		if (!take_word(word, value))
			rc = -EINVAL;
	}
	kfree(whole);
	return rc;
}

static int cmd_get(char *b, const struct kernel_param *k)
{
	int i, n = sprintf(b, "mbox=%s planes %d %d %d %d\n", mailbox_words[mailbox], plane[0], plane[1], plane[2], plane[3]);

	for (i = 0; i < count && n < 3900; i++)
		n += sprintf(b + n, "%#x=%#llx kind %s r%u w%u\n", registers[i].nr, registers[i].val,
			     kind_words[registers[i].kind], registers[i].reads, registers[i].writes);
	return n;
}

static const struct kernel_param_ops cmd_ops = { .set = cmd_set, .get = cmd_get };
module_param_cb(cmd, &cmd_ops, NULL, 0600);

static struct syscore_ops sleep_ops = { .resume = power_on };   // before anything else runs again, as firmware does

static int __init begin(void)
{
	int i, rc;

	for (i = 0; i < ARRAY_SIZE(probes); i++) {
		rc = register_kprobe(&probes[i]);
		placed[i] = !rc;
		pr_info("rig_registers: %s: %d\n", probes[i].symbol_name, rc);
	}
	register_syscore_ops(&sleep_ops);
	return 0;
}

static void __exit end(void)
{
	int i;

	unregister_syscore_ops(&sleep_ops);
	for (i = 0; i < ARRAY_SIZE(probes); i++)
		if (placed[i])
			unregister_kprobe(&probes[i]);
}

module_init(begin);
module_exit(end);
MODULE_LICENSE("GPL");
