#include "format/firmware/uefi_names.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/cursor.h"
#include "base/text.h"
#include "format/filesystem/file_tree.h"
#include "format/firmware/firmware_parts.h"

namespace operculum::uefi {
namespace {

struct GuidName {
  std::string_view text, name;
};
constexpr GuidName kNames[] = {
    // file systems of volumes, sections, capsules, variable stores
    {"7a9354d9-0468-444a-81ce-0bf617d890df", "FFS1"},
    {"8c8ce578-8a3d-4f1c-9935-896185c32dd3", "FFS2"},
    {"5473c07a-3dcb-4dca-bd6f-1e9689e7349a", "FFS3"},
    {"fff12b8d-7696-4c8b-a985-2747075b4f50", "SystemNvDataFv"},
    {"ee4e5898-3914-4259-9d6e-dc7bd79403cf", "LzmaCompressed"},
    {"d42ae6bd-1352-4bfb-909a-ca72a6eae889", "LzmaF86Compressed"},
    {"a31280ad-481e-41b6-95e8-127f4c984779", "TianoCompressed"},
    {"3d532050-5cda-4fd0-879e-0f7f630d5afb", "BrotliCompressed"},
    {"fc1bcdb0-7d31-49aa-936a-a4600d9dd083", "Crc32Guided"},
    {"a7717414-c616-4977-9420-844712a735bf", "FirmwareContentsSigned"},
    {"6dcbd5ed-e82d-4c44-bda1-7194199ad92a", "FmpCapsule"},
    {"3b8c8162-188c-46a4-aec9-be43f1d65697", "UxCapsule"},
    {"4a3ca68b-7723-48fb-803d-578cc1fec44d", "FirmwareUpdateCapsule"},
    {"aaf32c78-947b-439a-a180-2e144ec37792", "AuthenticatedVariable"},
    {"ddcf3616-3275-4164-98b6-fe85707ffe7d", "Variable"},
    {"9e58292b-7c68-497d-a0ce-6500fd9f1b95", "WorkingBlock"},
    // volumes and files of the reference implementation
    {"1b45cc0a-156a-428a-af62-49864da0e6e6", "PeiApriori"},
    {"fc510ee7-ffdc-11d4-bd41-0080c73c8881", "DxeApriori"},
    {"1ba0062e-c779-4582-8566-336ae8f78f09", "VolumeTopFile"},
    {"df1ccef6-f301-4a63-9661-fc6030dcc880", "SecMain"},
    {"52c05b14-0b98-496c-bc3b-04b50211d680", "PeiCore"},
    {"d6a2cb7f-6a18-4e2f-b43b-9920a733700a", "DxeCore"},
    {"9e21fd93-9c72-4c15-8c4b-e77f1db2d792", "FvMainCompact"},
    {"48db5e17-707c-472d-91cd-1613e7ef51b0", "FvMain"},
    {"6938079b-b503-4e3d-9d24-b28337a25806", "PeiFv"},
    {"7cb8bdc9-f8eb-4f34-aaea-3ee4af6516a1", "DxeFv"},
    {"763bed0d-de9f-48f5-81f1-3e90e1b1a015", "SecFv"},
    {"7c04a583-9e3e-4f1c-ad65-e05268d0b4d1", "Shell"},
    {"462caa21-7614-4503-836e-8ab6f4662331", "UiApp"},
    {"b601f8c4-43b7-4784-95b1-f4226cb40cee", "RuntimeDxe"},
    {"80cf7257-87ab-47f9-a3fe-d50b76d89541", "PcdDxe"},
    {"9b3ada4f-ae56-4c24-8dea-f03b7558ae50", "PcdPeim"},
    {"6d33944a-ec75-4855-a54d-809c75241f6c", "BdsDxe"},
    // variables
    {"8be4df61-93ca-11d2-aa0d-00e098032b8c", "EfiGlobalVariable"},
    {"d719b2cb-3d3a-4596-a3bc-dad00e67656f", "EfiImageSecurityDatabase"},
    {"4c19049f-4137-4dd3-9c10-8b97a83ffdfa", "EfiMemoryTypeInformation"},
    {"eb704011-1402-11d3-8e77-00a0c969723b", "MtcVendor"},
    {"04b37fe8-f6ae-480b-bdd5-37d98c5e89aa", "VarErrorFlag"},
    {"f0a30bc7-af08-4556-99c4-001009c93a44", "SecureBootEnableDisable"},
    {"c076ec0c-7028-4399-a072-71ee5c448b9f", "CustomModeEnable"},
    {"d9bee56e-75dc-49d9-b4d7-b534210f637a", "CertDb"},
    // protocols that dependency expressions name most
    {"665e3ff6-46cc-11d4-9a38-0090273fc14d", "BdsArch"},
    {"26baccb1-6f42-11d4-bce7-0080c73c8881", "CpuArch"},
    {"b2360b42-7173-420a-8696-46ca6bab1060", "MeasuredFv"},
    {"26baccb2-6f42-11d4-bce7-0080c73c8881", "MetronomeArch"},
    {"1da97072-bddc-4b30-99f1-72a0b56fff2a", "MonotonicCounterArch"},
    {"27cfac87-46cc-11d4-9a38-0090273fc14d", "RealTimeClockArch"},
    {"27cfac88-46cc-11d4-9a38-0090273fc14d", "ResetArch"},
    {"b7dfb4e1-052f-449f-87be-9818fc91b733", "RuntimeArch"},
    {"a46423e3-4617-49f1-b9ff-d1bfa9115839", "SecurityArch"},
    {"94ab2f58-1438-4ef1-9152-18941a3a0e68", "Security2Arch"},
    {"26baccb3-6f42-11d4-bce7-0080c73c8881", "TimerArch"},
    {"6441f818-6362-4e44-b570-7dba31dd2453", "VariableWriteArch"},
    {"1e5668e2-8481-11d4-bcf1-0080c73c8881", "VariableArch"},
    {"665e3ff5-46cc-11d4-9a38-0090273fc14d", "WatchdogTimerArch"},
    {"11b34006-d85b-4d0a-a290-d5a571310ef7", "PcdProtocol"},
    {"13a3f0f6-264a-3ef0-f2e0-dec512342f34", "EfiPcdProtocol"},
    {"ef9fc172-a1b2-4693-b327-6d32fc416042", "HiiDatabase"},
    {"587e72d7-cc50-4f79-8209-ca291fc1a10f", "HiiConfigRouting"},
    {"0fd96974-23aa-4cdc-b9cb-98d17750322a", "HiiString"},
    {"f4b427bb-ba21-4f16-bc4e-43e416ab619c", "CpuIo2"},
    {"f2765dec-6b41-11d5-8e71-00902707b35e", "Timer"},
    {"f894643d-c449-42d1-8ea8-85bdd8c65bde", "PeiMemoryDiscovered"},
    {"f87e0e9c-1a3c-4d31-a0c1-d2a5e1bcd4a6", "PeiMasterBootMode"},
    {"7408d748-fc8c-4ee6-9288-c4bec092a410", "MasterBootModePpi"},
    {"06e81c58-4ad7-44bc-8390-f10265f72480", "PcdPpi"},
    {"01f34d25-4de2-23ad-3ff3-36353ff323f1", "EfiPcdPpi"},
};

constexpr NamedNumber kFileTypes[] = {
    {0x01, "raw data"},
    {0x02, "free form"},
    {0x03, "security core"},
    {0x04, "PEI core"},
    {0x05, "DXE core"},
    {0x06, "PEI module"},
    {0x07, "driver"},
    {0x08, "PEI module and driver"},
    {0x09, "application"},
    {0x0A, "MM module"},
    {0x0B, "volume"},
    {0x0C, "MM and DXE module"},
    {0x0D, "MM core"},
    {0x0E, "standalone MM module"},
    {0x0F, "standalone MM core"},
    {0xF0, "padding"},
};
constexpr NamedNumber kSectionTypes[] = {
    {0x01, "packed"},
    {0x02, "guided"},
    {0x03, "disposable"},
    {0x10, "PE32"},
    {0x11, "position-independent code"},
    {0x12, "TE"},
    {0x13, "DXE dependencies"},
    {0x14, "version"},
    {0x15, "name"},
    {0x16, "16-bit code"},
    {0x17, "volume"},
    {0x18, "free form"},
    {0x19, "raw data"},
    {0x1B, "PEI dependencies"},
    {0x1C, "MM dependencies"},
};

}  // namespace

std::string text_of(const Guid& guid) {
  return guid_text(guid);
}

std::string_view name_of(const Guid& guid) {
  std::string text = text_of(guid);
  auto found = std::find_if(std::begin(kNames), std::end(kNames),
                            [&](const GuidName& one) { return one.text == text; });
  return found == std::end(kNames) ? std::string_view() : found->name;
}

std::string name_or_text(const Guid& guid) {
  std::string_view name = name_of(guid);
  return name.empty() ? text_of(guid) : std::string(name);
}

bool is(const Guid& guid, std::string_view text) {
  return text_of(guid) == text;
}

std::string file_type_name(std::uint8_t type) {
  return name_in(kFileTypes, type, "file of type");
}

std::string section_type_name(std::uint8_t type) {
  return name_in(kSectionTypes, type, "section of type");
}

std::string depex_text(ByteView expression) {
  constexpr std::string_view kWords[] = {"BEFORE", "AFTER", "PUSH",  "AND", "OR",
                                         "NOT",    "TRUE",  "FALSE", "END", "SOR"};
  std::string out;
  for (Cursor cursor(expression, "dependency expression"); !cursor.done();) {
    Byte code = cursor.u8();
    if (code >= std::size(kWords)) return out + fmt::format("unknown operation {:#04x}\n", code);
    out += kWords[code];
    if (code <= 2) {
      if (cursor.left() < 16) return out + " (cut short)\n";
      Guid guid{};
      ByteView raw = cursor.take(16);
      std::copy(raw.begin(), raw.end(), guid.begin());
      out += " " + text_of(guid);
      if (std::string_view name = name_of(guid); !name.empty()) out += fmt::format(" ({})", name);
    }
    out += "\n";
    if (code == 8) break;
  }
  return out;
}

std::string wide_text(ByteView raw) {
  std::size_t size = 0;
  while (size + 2 <= raw.size() && (raw[size] != 0 || raw[size + 1] != 0)) size += 2;
  return to_utf8(as_text(raw.first(size)), "UTF-16LE").value_or("");
}

}  // namespace operculum::uefi
